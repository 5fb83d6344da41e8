"""Every size at which another way is taken, that comes to the same and costs less for many, or for few. Nothing here
changes what comes out: the tests take each way for all the laws.
"""

from __future__ import annotations

CELLS_COMPARED_AT_ONCE = 1_000_000
"""Of no more cells all texts are compared in one go, which costs the same however many columns they stand in."""

ITEMS_AT_A_GLANCE = 1_000
"""Of ten times as many items, so many are looked at first for fields that differ in most of them."""

ROWS_DEDUPLICATED = 50_000
"""Of so many rows it is looked whether most of them repeat another."""

ROWS_SAMPLED = 10_000
"""So many of them are looked at for that."""

ROWS_OF_A_SORT = 4
"""It pays to work on the different rows only if no more than one in so many is the first of its sort."""

CELLS_REMEMBERED = 1_000
"""Of no more cells it is remembered how they were read: one stage after another asks for the same ones."""

CELLS_READ_ONE_BY_ONE = 50_000
"""Of more cells in another notation, each different one is looked at once."""

CELLS_ASKED_AT_ONCE = 1_000
"""So few cells are looked at for all damage at once: putting patterns together takes longer than looking."""

CELLS_CHECKED_TOGETHER = 10_000
"""Fields with more cells are looked up by themselves: laid together they would take their memory twice."""

CELLS_LEARNED_TOGETHER = 100_000
"""So many cells are looked at together, whatever columns they are of: a question costs as much as hundreds of cells."""

LINES_WRITTEN_AT_ONCE = 65_536
"""So many lines of a change set go into one piece of output."""

ITEMS_READ_BY_COLUMN = 20_000
"""Of so many lines of a change set, the plain ones are read column by column."""

ROWS_JOINED_IN_MEMORY = 50_000
"""Fewer rows are joined by the engine that begins at once; the other takes a fifth of the time for a million."""

ROWS_JOINED_AT_ONCE = 4_000_000
"""More rows are joined some at a time, by their hashes: a join takes several times the memory of its tables."""

ROWS_JOINED_BY_A_WORKER = 500_000
"""More rows than this are joined by several workers, where there are such, each some of them, by their hashes."""

ROWS_JOINED_BY_HASH = 10_000
"""The keys of more rows are looked up by their hashes, and then compared: of few, by their texts at once."""

ROWS_COMPARED_AT_ONCE = 100_000
"""The cells of more rows that differ are compared some rows at a time."""

ROWS_KEPT = 100_000
"""So many rows that were read by themselves are kept where memory is short, else all of them: one stage after another
asks for the same ones.
"""

ROWS_IN_ORDER = 10_000
"""Of so many places it is looked whether they are all there are, in order, so that there is nothing to gather."""

ROWS_WORTH_A_THREAD = 10_000
"""Work on fewer rows is done by the time that a thread for it has begun."""

ROWS_COUNTED_BY_ENGINE = 10_000
"""Runs of more rows are counted by the engine, of fewer in Python, where a question to it costs more."""

BYTES_HASHED_BY_ALL_CORES = 1 << 22
"""The digest of more bytes is made on all cores."""

BYTES_WORTH_NUMPY = 1 << 23
"""Of more bytes than this, NumPy is worth its time to load."""

BYTES_OF_A_BLOCK = 1 << 21
"""So many bytes are looked at in one go for quotes: no more than stay at hand."""

BYTES_OF_A_PIECE = 1 << 23
"""So many bytes of a file are taken for the records in them in one go."""

BYTES_OF_A_WORKERS_PIECE = 1 << 25
"""So many bytes of a file are given to a worker of another process in one go: giving and taking costs milliseconds."""

BYTES_WORTH_A_FILE = 1 << 16
"""A table of more bytes is handed to another process as a file, which costs less than a connection."""

BYTES_INDEXED = 1 << 22
"""Of a text of more bytes the records are told apart first, and only those are read that differ."""

BYTES_SCANNED_AT_ONCE = 1 << 24
"""So many bytes of a file are looked through for some columns in one go."""

BYTES_A_QUOTE = 16
"""Where a quote stands in fewer bytes, looking at each costs more than reading the text."""

BYTES_A_RECORD_APART = 1 << 16
"""Records of which one stands in more bytes are read one by one."""

RECORDS_AT_A_GLANCE = 1_000
"""Of so many records it is looked whether most of them stand in the other file as well."""

COLUMNS_READ_APART = 3
"""Once more columns are asked for than one in so many, all are read: each by itself costs a good part of that."""

COLUMNS_EXPECTED = 4
"""No more columns than this are read along with another because they are likely to be asked for."""

ROWS_READ_APART = 8
"""Once more rows are asked for than one in so many, all are read."""

BYTES_ANY_MACHINE_HAS = 1 << 26
"""Of tables that take no more, nobody asks how much memory is free."""
