"""The use cases, without a terminal: each plans or carries out; the command line and the tests drive them alike."""
