"""Searching: a plan in, events out. Independent of threads, of the job file and of Qt."""
