"""What every room knows: errors and columns, the values that cross boundaries, kinds, what data show, expressions."""
