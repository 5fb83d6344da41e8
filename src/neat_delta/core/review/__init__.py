"""What people look at before they send: figures, impact, records, sign-off, the cells themselves."""
