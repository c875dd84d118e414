"""The job folder: what was found, chosen and done, kept through crashes."""
