"""Faults that come from outside, and the case in which nothing is wrong."""

from __future__ import annotations

import numpy as np

from wirbel.demo.faults.model import MINUTE, Fault, Span, Truth, change
from wirbel.demo.world.happenings import LogLines


def provider_slow(rng: np.random.Generator, span: Span) -> Fault:
    """The provider of tides answers late."""
    fault = Fault(Truth("provider-slow", (("external", "tides.example"),), ("external", "slower-work"), ("tide-feed",), None, span.onset, span.end))
    fault.effect("time", "tides.example", span=span, times=float(rng.uniform(8, 11)), form="ramp", rise_s=180)
    fault.effect("load", "all", span=span, times=1.04)
    fault.happenings.lines.append(LogLines("tide-feed", "WARN", "tides.example took {ms} ms for harbour {id}", 0.7, span.onset, span.end))
    return fault


def provider_failing(rng: np.random.Generator, span: Span) -> Fault:
    """The provider of tides fails late, and being asked again makes it worse."""
    fault = Fault(Truth("provider-failing", (("external", "tides.example"),), ("external", "errors"), ("tide-feed",), None, span.onset, span.end))
    fault.effect("failing", "tides.example", span=span, plus=float(rng.uniform(0.55, 0.85)))
    fault.effect("time", "tides.example", span=span, times=float(rng.uniform(3, 4.5)))
    fault.happenings.lines.append(LogLines("tide-feed", "ERROR", "tides.example answered {code}; trying again", 1.5, span.onset, span.end))
    return fault.restarted("tide-feed", span.onset + 15 * MINUTE).told_late(rng)


def load_surge(rng: np.random.Generator, span: Span) -> Fault:
    """Far more passengers than usual; nothing is broken."""
    fault = Fault(Truth("load-surge", (("load", "load"), ("load", "quay-web")), ("traffic",), ("quay-web",), None, span.onset, span.end))
    times = float(rng.uniform(2.02, 2.1)) / span.load  # so many times the usual load of a day
    for entry in ("GET /sailings", "POST /reservations", "GET /passes/{id}", "POST /session"):
        fault.effect("load", f"quay-web {entry}", span=span, times=times, form="ramp", rise_s=240)
    return fault


def bot_flood(rng: np.random.Generator, span: Span) -> Fault:
    """Something asks for passes that do not exist, far faster than passengers would."""
    entities = (("attribute", "user_agent.original"), ("attribute", "gullbot/0.3"), ("load", "load"), ("load", "quay-web"))
    fault = Fault(Truth("bot-flood", entities, ("traffic",), ("quay-web",), None, span.onset, span.end))
    fault.effect("bots", "quay-web GET /passes/{id}", span=span, plus=float(rng.uniform(120, 150)))
    return fault


def nothing_wrong(rng: np.random.Generator, span: Span) -> Fault:
    """An ordinary stretch with a deploy in the middle of it. There is no cause to find."""
    service = str(rng.choice(["identity", "fare-engine", "manifest"]))
    fault = Fault(Truth("nothing-wrong", (), (), (), None, span.onset, span.end, hurts=False))
    fault.happenings.changes.append(change("deploy", span.onset, service, f"{service} rebuilt", version="rebuilt"))
    return fault
