"""The demo store: Quillfern Apiary Supply, a made-up shop for beekeepers, and the generator of its files."""
