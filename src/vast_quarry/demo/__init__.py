"""Photos of the demo, made by the practice rig."""
