"""``python -m sabueso``."""

from sabueso.cli.main import main

if __name__ == "__main__":
    raise SystemExit(main())
