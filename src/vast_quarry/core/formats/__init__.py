"""One file per open format, read and write."""
