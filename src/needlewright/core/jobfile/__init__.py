"""The job file: what is kept of a job, in one SQLite file and beside it."""
