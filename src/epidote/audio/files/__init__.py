"""Sound files: reading, streaming, containers and their headers."""
