"""OTLP requests ⇄ Arrow tables: one module a signal, and wire.py for what they share."""

from wirbel.core.signals.otlp import bounds, logs, metrics, traces
from wirbel.core.signals.otlp.wire import LOGS, METRICS, SIGNALS, TRACES, Decoded, JsonText, Signal, json_to_protobuf, protobuf_to_json

DECODERS = {TRACES.name: traces.decode, METRICS.name: metrics.decode, LOGS.name: logs.decode}
ENCODERS = {TRACES.name: traces.encode, METRICS.name: metrics.encode, LOGS.name: logs.encode}


def weigh(signal: Signal, body: bytes) -> int:
    """About how many records a body holds, before it is decoded. Raises TooMuchTelemetry."""
    return bounds.check_json(body) if isinstance(body, JsonText) else bounds.check(signal.message.DESCRIPTOR, body)


__all__ = [
    "DECODERS",
    "ENCODERS",
    "LOGS",
    "METRICS",
    "SIGNALS",
    "TRACES",
    "Decoded",
    "JsonText",
    "Signal",
    "json_to_protobuf",
    "logs",
    "metrics",
    "protobuf_to_json",
    "traces",
    "weigh",
]
