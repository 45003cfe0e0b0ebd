"""Meshing, trimming and simple work on triangle meshes."""
