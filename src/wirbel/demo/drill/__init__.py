"""Drills: a fault that nobody knows of, the telemetry of it, the answer that Wirbel gives, and its marks."""
