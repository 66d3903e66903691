"""The window that aligns two paths by hand."""
