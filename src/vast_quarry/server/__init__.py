"""The application over the core: projects, jobs, HTTP interface."""
