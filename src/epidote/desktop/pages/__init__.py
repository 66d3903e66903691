"""The pages of the main window."""
