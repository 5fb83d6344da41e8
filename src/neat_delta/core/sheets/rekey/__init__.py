"""Code changes, and the links that follow them."""
