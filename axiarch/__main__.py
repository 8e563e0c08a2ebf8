"""``python -m axiarch``: the command line, which runs no code that lies in the current folder."""

import os
import sys

# python -m puts the current folder first on the module path; only the one that holds this package
# stays.
if not sys.flags.safe_path and os.path.realpath(sys.path[0] or ".") != os.path.dirname(
        os.path.dirname(os.path.realpath(__file__))):
    del sys.path[0]

from axiarch.cli.main import main

main()
