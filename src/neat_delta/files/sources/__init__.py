"""What a file is, and what is packed in it."""
