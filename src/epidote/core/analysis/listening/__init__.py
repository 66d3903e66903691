"""What is heard: loudness, masking, and the statistics of listening tests."""
