"""Pure computation on numbers: no files, no devices, no interface."""
