"""Synchronised folders over WebDAV (RFC 4918), older versions of files included (RFC 3253)."""
