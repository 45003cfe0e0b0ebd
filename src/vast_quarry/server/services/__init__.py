"""What the routes do, without HTTP."""
