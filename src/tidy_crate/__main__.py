"""Lets `python -m tidy_crate` run the program."""

from tidy_crate.cli.app import main

if __name__ == "__main__":
    main()
