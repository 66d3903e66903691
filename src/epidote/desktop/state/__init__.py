"""The state of the desktop: session, run queue, edits, live audio, faults. No widgets."""
