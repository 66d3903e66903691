"""The measuring chain as data, its file format, and the scale of its channels."""
