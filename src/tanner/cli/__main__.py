"""`python -m tanner.cli`."""

from tanner.cli import main

if __name__ == "__main__":
    main()
