"""SQL text over a catalogue's columns: conditions and orders."""
