"""`python -m neat_delta` is `neat-delta`."""

from neat_delta.cli.main import main

if __name__ == "__main__":
    main()
