"""Devices: the ports that the work is written against, and what stands behind them."""
