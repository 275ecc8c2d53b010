"""`python -m markbase` is the `markbase` command."""

from markbase.cli.main import main

if __name__ == "__main__":
    main()
