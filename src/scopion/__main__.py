"""``python -m scopion`` is the same program as ``scopion``."""

from scopion.cli.main import main

if __name__ == "__main__":
    main()
