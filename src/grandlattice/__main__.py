"""``python -m grandlattice`` is the command `glat`."""

from grandlattice.cli.main import main

main()
