"""Masks: what of a photo counts."""
