"""``python -m axiarch``: the command line."""

from axiarch.cli.main import main

main()
