"""Diagnosis: facts, rules, causes."""

__all__ = ("case", "diagnosis", "evidence", "facts", "looks", "questions", "router_rules", "tunnel")
