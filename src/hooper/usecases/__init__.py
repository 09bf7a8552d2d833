"""One module a job: a run and a request in, a document and the trouble out. No terminal, no exit code."""

__all__ = ("abilities", "demo", "explaining", "moving", "run")
