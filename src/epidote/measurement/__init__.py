"""The measurement service: from a request to a stored run."""
