"""Vast Quarry: from overlapping photos to a clean, upright, textured model."""

__version__ = "0.1.0"
