"""The conductor without a window: for scripts, production lines and checks."""
