"""What a published figure claims, and what a procedure needs to answer it."""
