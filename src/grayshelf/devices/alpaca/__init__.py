"""Devices on the network that speak the open Alpaca standard, behind the ports of the work."""
