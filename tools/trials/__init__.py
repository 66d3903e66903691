"""Trials: what the program is put through, as programs that anybody can run (docs/reliability.md)."""
