"""The ledger: the rounds of a shop, each in a folder of its own, and an index of them all."""
