"""Copying a medium: what to read next (pure logic), the reader process, the copy, its read map."""
