"""Faults that come from outside, and the case in which nothing is wrong."""

from __future__ import annotations

from wirbel.demo.faults.model import MINUTE, Case, Fault, Truth, change


def provider_slow(case: Case) -> Fault:
    """An outside provider answers late."""
    site, span = case.site, case.span
    fault = Fault(case, Truth("provider-slow", (("external", site.backend),), ("external", "slower-work"), (site.service,), None, span.onset, span.end))
    fault.effect("time", site.backend, times=case.between(2, 60), form="ramp", rise_s=180)
    fault.effect("load", "all", times=1.04)
    return fault.says(site.service, "WARN", f"{site.backend} took {{ms}} ms for entry {{id}}", 0.7)


def provider_failing(case: Case) -> Fault:
    """An outside provider fails late, and being asked again makes it worse."""
    site, span, rng = case.site, case.span, case.rng
    fault = Fault(case, Truth("provider-failing", (("external", site.backend),), ("external", "errors"), (site.service,), None, span.onset, span.end))
    fault.effect("failing", site.backend, plus=case.between(0.2, 0.95))
    fault.effect("time", site.backend, times=float(rng.uniform(3, 4.5)))
    fault.says(site.service, "ERROR", f"{site.backend} answered {{code}}; trying again", 1.5)
    return fault.restarted(site.service, span.onset + 15 * MINUTE).told_late()


def load_surge(case: Case) -> Fault:
    """Far more users than usual; nothing is broken."""
    service, span = case.site.service, case.span
    fault = Fault(case, Truth("load-surge", (("load", "load"), ("load", service)), ("traffic",), (service,), None, span.onset, span.end))
    times = case.between(1.4, 5)
    for entry in case.topology.entries:
        if case.topology.operations[entry].service == service:
            fault.effect("load", entry, times=times, form="ramp", rise_s=240)
    return fault


def app_failing(case: Case) -> Fault:
    """Requests of one version of an app fail: they lack what has come to be wanted."""
    site, span = case.site, case.span
    client = case.topology.clients[site.service]
    version = str(case.rng.choice(client.versions))
    entities = (("attribute", client.version_key), ("attribute", version))
    fault = Fault(case, Truth("app-failing", entities, ("errors",), (site.service,), None, span.onset, span.end))
    for operation in case.topology.of_service(site.service):
        fault.effect("app failing", operation.key, version, plus=case.between(0.05, 0.97))
    return fault.says(site.service, "ERROR", "entry {id} lacks a field", 0.8)


def bot_flood(case: Case) -> Fault:
    """Something asks for what does not exist, far faster than users would."""
    site, topology, span = case.site, case.topology, case.span
    bot = topology.clients[site.service].bot
    entities = (("attribute", "user_agent.original"), ("attribute", bot), ("load", "load"), ("load", site.service))
    fault = Fault(case, Truth("bot-flood", entities, ("traffic",), (site.service,), None, span.onset, span.end))
    return fault.effect("bots", site.operation, plus=topology.rate * case.between(0.15, 4))


def nothing_wrong(case: Case) -> Fault:
    """An ordinary stretch with a deploy in the middle of it. There is no cause to find."""
    service, span = case.site.service, case.span
    fault = Fault(case, Truth("nothing-wrong", (), (), (), None, span.onset, span.end, hurts=False))
    fault.happenings.changes.append(change("deploy", span.onset, service, f"{service} rebuilt", version="rebuilt"))
    return fault
