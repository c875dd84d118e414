"""Where the next item of a file is, format by format: each module registers one."""
