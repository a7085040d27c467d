"""Which calibration frames fit which lights, and why."""
