"""Units of work: one photo or one bundle of pairs each, run in worker processes, written atomically."""
