"""`python -m needlewright` is the same as the console script."""

import sys

from needlewright.cli import main

if __name__ == "__main__":
    sys.exit(main())
