"""The document: a folder that holds units, subjects, runs, recordings and pins, and loses none of them."""
