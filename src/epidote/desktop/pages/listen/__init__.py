"""The Listen page: clips under letters, tests, and what differs."""
