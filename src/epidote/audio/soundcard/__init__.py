"""The sound card: its client, and the process that owns the device."""
