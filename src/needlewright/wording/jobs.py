"""Sentences about jobs as a whole."""

from __future__ import annotations

from needlewright.wording import units

COPY = "Copy to new job…"
CHOOSE_COPY = "Choose an empty folder for the new job"
COPYING = "What can be read of the job is being copied…"
SEARCH_AGAIN = "Search again to find what is missing."


def copied(finds: int, known: int, folder: str, missed: int) -> str:
    """'1,204 of 1,310 finds copied to /jobs/weir. Search …'"""
    some = units.count(finds, "find") if finds >= known else (
        f"{finds:,} of {units.count(known, 'find')}")
    files = f" {units.count(missed, 'file')} of the job could not be read." if missed else ""
    return f"{some} copied to {folder}.{files} {SEARCH_AGAIN}"
