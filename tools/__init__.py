"""What is made from the program for its package and its docs: manual pages, the reference, the site, the pictures."""
