"""Devices on the network: looked for, tried, and chosen for the parts of a rig."""
