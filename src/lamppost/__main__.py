"""``python -m lamppost``."""

from lamppost.cli import main

main()
