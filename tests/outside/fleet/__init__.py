"""A small real fleet under stock instrumentation, with faults that really happen in it."""
