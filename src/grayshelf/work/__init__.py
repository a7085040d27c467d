"""Long work: scans, builds and runs, with progress, pause, stop and resume."""
