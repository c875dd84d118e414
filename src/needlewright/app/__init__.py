"""The window. It shows what the engine says and hands on what the user wants; nothing slow runs on
its thread."""
