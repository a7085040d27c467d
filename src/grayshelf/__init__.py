"""Gray Shelf: build and keep a library of calibration frames for deep-sky imaging."""

import os

# The matrices here are small, and several things are reckoned at once: threads for each matrix only wait for one another,
# and take twice the time. It counts where NumPy was not loaded before.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

__version__ = "0.1.0"
