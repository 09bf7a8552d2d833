"""The catalogue of words: what each code means, as data that is read when it is needed."""

__all__ = ("catalogue", "data", "said")
