"""The Matrix page: rows are subjects, columns are procedures; an empty cell is a measurement still to make."""
