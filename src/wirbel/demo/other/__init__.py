"""A second world, for grading only: each request is played by itself, event by event (SimPy).

It shares no physics, no names, no way to send telemetry and no faults with the first one (``demo/world``), and nothing is ever fitted
on it: what a diagnosis is worth on systems that nobody here built is told by it alone.
"""
