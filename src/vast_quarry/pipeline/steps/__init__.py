"""The steps of the layers, one file each."""
