"""Private access: keys, the files of both sides, profiles of others."""
