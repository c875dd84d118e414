"""The command line: the same core without the window.

A module `command_NAME.py` registers the commands that it brings.
"""
