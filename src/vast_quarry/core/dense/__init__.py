"""Depth maps by multi-view PatchMatch, and their fusion to a cloud."""
