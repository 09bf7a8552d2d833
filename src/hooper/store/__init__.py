"""State between runs: one SQLite file a site, private."""
