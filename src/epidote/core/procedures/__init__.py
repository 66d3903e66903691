"""One file per procedure: its settings, what it plays, how it analyses what came back."""
