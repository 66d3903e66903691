"""The Chain page: the path as a row of blocks, the form and the guides of the chosen one, and the live level."""
