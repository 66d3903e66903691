"""What is played: each maker turns a few parameters into samples, the same ones every time."""
