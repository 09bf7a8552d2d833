"""Diagnosis: facts, rules, causes."""
