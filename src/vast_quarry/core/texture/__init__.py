"""Unwrapping and colouring."""
