"""Finding and driving routers, with a journal."""
