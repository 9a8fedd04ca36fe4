"""What has happened in the demo world, relative to now: one fault, and innocent things beside it."""

from __future__ import annotations

from wirbel.core.text import rfc3339
from wirbel.demo.world import THE_FAULT, History, Rollout

MINUTE_NS = 60 * 10**9
FAULT_MINUTES_AGO = 25


def make_history(now: int) -> History:
    """The demo's six hours: the bad deploy 25 minutes ago; deploys and a restart nearby that did nothing."""

    def ago(minutes: float) -> int:
        return now - round(minutes * MINUTE_NS)

    rollouts = (
        Rollout("identity", "7.5.0", ago(250)),
        Rollout("fare-engine", "1.31.0", ago(37)),
        Rollout(THE_FAULT.service, THE_FAULT.version, ago(FAULT_MINUTES_AGO)),
        Rollout("gate-api", "2.2.1", ago(13)),
    )
    deploys = [
        {
            "id": f"demo-deploy-{r.service}-{r.version}",
            "kind": "deploy",
            "at": rfc3339(r.begins),
            "service": r.service,
            "version": r.version,
            "actor": "deploy-bot",
            "summary": f"{r.service} {r.version}",
            "environment": "production",
        }
        for r in rollouts
    ]
    others = [
        {
            "id": "demo-scale",
            "kind": "scale",
            "at": rfc3339(ago(310)),
            "service": "quay-web",
            "actor": "autoscaler",
            "summary": "3 to 4 instances",
            "before": {"instances": 3},
            "after": {"instances": 4},
        },
        {
            "id": "demo-config",
            "kind": "config",
            "at": rfc3339(ago(170)),
            "service": "notice-fanout",
            "actor": "m.holm",
            "summary": "retry back-off",
            "before": {"retry.first_s": 1, "retry.most": 5},
            "after": {"retry.first_s": 2, "retry.most": 5},
        },
        {
            "id": "demo-archive",
            "kind": "job",
            "at": rfc3339(ago(150)),
            "until": rfc3339(ago(122)),
            "service": None,
            "actor": "scheduler",
            "summary": "archive of past sailings",
            "entity": {"host.name": "islet-6"},
        },
        {"id": "demo-restart", "kind": "restart", "at": rfc3339(ago(31)), "service": "tide-feed", "actor": "s.berg", "summary": "restarted by hand"},
    ]
    return History(rollouts, THE_FAULT, tuple([*deploys, *others]))
