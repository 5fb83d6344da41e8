"""What differs, what was found in it, and what is decided: the stages, each a round to a round."""
