"""Tables for people to edit."""
