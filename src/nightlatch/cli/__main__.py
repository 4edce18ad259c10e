"""`python -m nightlatch.cli`."""

from nightlatch.cli.main import main

main()
