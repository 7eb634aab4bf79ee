"""For each command the call of the Python library and the HTTP request that do the same; docs/python.md is written from this."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Equivalent:
    """python : a name in ``lamppost``, or a method of `lamppost.Client`; empty where there is none. http : method and path, likewise."""

    python: str = ""
    http: str = ""


_ENDPOINT, _VERSION = "/api/endpoints/{endpoint}", "/api/models/{model}/versions/{number}"
_FETCH = "Client.fetch"

EQUIVALENTS = {
    "up": Equivalent("serve"),
    "pack": Equivalent("pack"),
    "inspect": Equivalent(),
    "diff": Equivalent("Client.compare", "GET /api/compare"),
    "sign": Equivalent(),
    "prove": Equivalent(),
    "push": Equivalent("Client.push", "POST /api/packages"),
    "fetch": Equivalent("Client.download", f"GET {_VERSION}/package"),
    "shell": Equivalent(),
    "point": Equivalent("Client.point", f"POST {_ENDPOINT}/point"),
    "setup": Equivalent("Client.set_up", f"PUT {_ENDPOINT}/setup"),
    "lanes": Equivalent(_FETCH, "GET /api/lanes"),
    "endpoints": Equivalent("Client.endpoints", "GET /api/endpoints"),
    "models": Equivalent("Client.versions", "GET /api/versions"),
    "show": Equivalent("Client.describe", f"GET {_ENDPOINT}"),
    "card": Equivalent("Client.fetch_bytes", "GET /api/models/{model}/versions/{number}/card"),
    "ask": Equivalent("Client.predict", "POST /predict/{endpoint}"),
    "explain": Equivalent("Client.explain", f"POST {_ENDPOINT}/explain"),
    "bulk start": Equivalent("Client.bulk", "POST /api/bulk"),
    "bulk list": Equivalent(_FETCH, "GET /api/bulk"),
    "bulk show": Equivalent(_FETCH, "GET /api/bulk/{run}"),
    "bulk follow": Equivalent(_FETCH, "GET /api/bulk/{run}/events"),
    "bulk stop": Equivalent(_FETCH, "POST /api/bulk/{run}/stop"),
    "bulk resume": Equivalent(_FETCH, "POST /api/bulk/{run}/resume"),
    "bulk repeat": Equivalent(_FETCH, "POST /api/bulk/{run}/repeat"),
    "bulk fetch": Equivalent("Client.fetch_bytes", "GET /api/bulk/{run}/output"),
    "bulk forget": Equivalent(_FETCH, "DELETE /api/bulk/{run}"),
    "schedule add": Equivalent(_FETCH, "PUT /api/schedules/{name}"),
    "schedule list": Equivalent(_FETCH, "GET /api/schedules"),
    "schedule show": Equivalent(_FETCH, "GET /api/schedules/{name}/times"),
    "schedule pause": Equivalent(_FETCH, "POST /api/schedules/{name}/pause"),
    "schedule resume": Equivalent(_FETCH, "POST /api/schedules/{name}/resume"),
    "schedule run": Equivalent(_FETCH, "POST /api/schedules/{name}/run"),
    "schedule remove": Equivalent(_FETCH, "DELETE /api/schedules/{name}"),
    "tail": Equivalent("Client.calls", "GET /api/calls"),
    "logs": Equivalent("Client.logs", "GET /api/logs"),
    "records": Equivalent(_FETCH, "GET /api/records/set-aside"),
    "call": Equivalent(_FETCH, "GET /api/calls/{request_id}"),
    "console": Equivalent(_FETCH, "POST /api/session/link"),
    "token new": Equivalent("Client.make_token", "POST /api/tokens"),
    "token list": Equivalent("Client.tokens", "GET /api/tokens"),
    "token rotate": Equivalent("Client.rotate_token", "POST /api/tokens/{name}/rotate"),
    "token revoke": Equivalent("Client.revoke_token", "DELETE /api/tokens/{name}"),
    "key new": Equivalent(),
    "key list": Equivalent(),
    "backup": Equivalent("Client.backup", "GET /api/backup/database"),
    "restore": Equivalent(),
    "rollback": Equivalent("Client.rollback", f"POST {_ENDPOINT}/rollback"),
    "split": Equivalent("Client.split", f"PUT {_ENDPOINT}/setup"),
    "shadow": Equivalent("Client.shadow", f"PUT {_ENDPOINT}/setup"),
    "rollout": Equivalent("Client.roll_out", f"POST {_ENDPOINT}/rollout"),
    "compare": Equivalent(_FETCH, "POST /api/compare/answers"),
    "retire": Equivalent("Client.retire", f"POST {_VERSION}/retire"),
    "delete endpoint": Equivalent("Client.delete_endpoint", f"DELETE {_ENDPOINT}"),
    "delete version": Equivalent("Client.delete_version", f"DELETE {_VERSION}"),
    "delete model": Equivalent("Client.delete_model", "DELETE /api/models/{model}"),
    "about": Equivalent(_FETCH, "PUT /api/models/{model}"),
    "trail": Equivalent("Client.fetch_bytes", "GET /api/trail.ndjson"),
    "declare": Equivalent(_FETCH, "PUT /api/declared"),
    "review list": Equivalent(_FETCH, "GET /api/reviews"),
    "review ask": Equivalent(_FETCH, "POST /api/reviews"),
    "review approve": Equivalent(_FETCH, "POST /api/reviews/{review}/verdict"),
    "review refuse": Equivalent(_FETCH, "POST /api/reviews/{review}/verdict"),
    "review withdraw": Equivalent(_FETCH, "DELETE /api/reviews/{review}"),
    "review demand": Equivalent(_FETCH, f"PUT {_ENDPOINT}/approvals"),
    "drift": Equivalent("Client.drift", f"GET {_ENDPOINT}/drift"),
    "traffic": Equivalent("Client.traffic", f"GET {_ENDPOINT}/traffic"),
    "watch": Equivalent(_FETCH, "GET /api/overview"),
    "outcome": Equivalent("Client.record_outcome", f"POST {_ENDPOINT}/outcomes"),
    "outcomes": Equivalent("Client.quality", f"GET {_ENDPOINT}/quality"),
    "alerts": Equivalent("Client.alerts", "GET /api/alerts"),
    "mute": Equivalent(_FETCH, f"PUT {_ENDPOINT}/mute"),
    "report": Equivalent("Client.fetch_bytes", f"GET {_ENDPOINT}/report"),
    "channel add": Equivalent(_FETCH, "POST /api/channels/{name}"),
    "channel list": Equivalent(_FETCH, "GET /api/channels"),
    "channel remove": Equivalent(_FETCH, "DELETE /api/channels/{name}"),
}
