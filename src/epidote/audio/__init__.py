"""Sound devices behind one protocol, and sound files."""
