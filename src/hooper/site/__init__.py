"""The site file: its typed model, and reading it with errors that name line and column. Pure: bytes in, values out."""

__all__ = (
    "account_tables", "certificate_tables", "edit", "fields", "handed", "load", "mistakes", "model", "pointers",
    "positions", "private", "protocols", "references", "tunnel_fields", "tunnel_kinds", "tunnel_references",
    "tunnel_tables", "updating", "witness_tables",
)  # fmt: skip
