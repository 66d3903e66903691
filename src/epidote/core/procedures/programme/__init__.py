"""Programme material through a unit: how far it comes back changed."""
