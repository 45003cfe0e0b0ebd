"""Features, choice of pairs, matching and two-view geometry."""
