"""Physical quantities: units, reading what was typed, formatting, series of frequencies, files of columns."""
