"""What several procedures share."""
