"""The practice drive: a simulated drive in a process of its own, reached through the protocol.

Its true parameters are its own. Nothing in the application imports this package.
"""
