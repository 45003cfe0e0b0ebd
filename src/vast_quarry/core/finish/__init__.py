"""Editing a finished model: selecting, deleting, cutting, cleaning."""
