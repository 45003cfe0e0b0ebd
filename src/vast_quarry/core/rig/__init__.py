"""The practice rig: made-up scenes photographed with known truth."""
