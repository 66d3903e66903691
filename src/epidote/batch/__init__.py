"""Many recordings computed again: in processes of this computer, or on a cluster."""
