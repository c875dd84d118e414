"""`python -m needlewright.demo [FOLDER]` draws the stream card in a process of its own; lines
'done total' go to standard error, the path to standard output."""

from needlewright.demo.card import main

if __name__ == "__main__":
    main()
