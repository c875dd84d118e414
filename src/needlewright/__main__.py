"""`python -m needlewright` is the same as the console script."""

import sys

if not sys.flags.safe_path:
    # `-m` puts the working directory first, where a stranger's module may lie.
    del sys.path[0]

from needlewright.start import main

if __name__ == "__main__":
    sys.exit(main())
