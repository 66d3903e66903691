"""Claims: published specifications, how they are read, and what measurements say of them."""
