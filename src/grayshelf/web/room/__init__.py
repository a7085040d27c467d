"""Room: what lies on the disks, and which raw frames may go."""
