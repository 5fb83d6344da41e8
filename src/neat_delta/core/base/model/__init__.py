"""What crosses boundaries, as plain values: catalogue, store, importer, change set, findings, reasons, schemas."""
