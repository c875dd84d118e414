"""The engine: sources, formats, search, checks, jobs and delivery. Imports no Qt."""
