"""The site file: its typed model, and reading it with errors that name line and column. Pure: bytes in, values out."""
