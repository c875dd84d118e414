"""The survey's synchronised folder: a WebDAV server (wsgidav) on a folder that is drawn."""
