"""The simulated rigs on the network: a stand-in that any client of the open Alpaca standard can use."""
