"""Import and export of studies, curves and claims."""
