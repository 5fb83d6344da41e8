"""The practice store: a small shop on this machine that imports update files as a store file's importer says. It is
written from the importer's rules alone, and shares no code with what plans, writes or replays such files.
"""
