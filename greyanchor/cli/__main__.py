"""`python -m greyanchor.cli`."""

from greyanchor.cli import main

main()
