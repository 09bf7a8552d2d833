"""The planner: facts and a date in, decisions out. No socket, file or clock of its own."""
