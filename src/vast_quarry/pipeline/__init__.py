"""Layers as steps: settings, versions, recipes, running."""
