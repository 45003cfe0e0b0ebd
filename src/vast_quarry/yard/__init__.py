"""yard: comes with the application over the core."""
