"""Templates of log records, and how often each is said."""
