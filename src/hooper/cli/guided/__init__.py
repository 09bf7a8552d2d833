"""The guided run: one question after another, each with the command that does the same."""
