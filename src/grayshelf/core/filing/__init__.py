"""Names of frames and folders that are legal everywhere."""
