"""One function for each use of the program: the command line and the library call the same ones."""
