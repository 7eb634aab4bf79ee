"""Tallowby's lighting office asks about lamps at a desk: what the desk of outage-risk shows."""

from __future__ import annotations

from typing import Any

import lamppost

SETTINGS: dict[str, Any] = {
    "title": "Will this lamp fail soon?",
    "introduction": "For the lighting office of Tallowby. Ask about one lamp, or bring the list of a round.",
    "use": "To plan visits. The answers are estimates: a lamp that is reported dark is visited whatever stands here.",
    "keep_days": 30,
    "fields": {
        "district": {"label": "District"},
        "lamp_type": {"label": "Kind of lamp"},
        "maker": {"label": "Maker", "hint": "it stands on the door of the pole"},
        "age_years": {"label": "Age", "hint": "years since it was put up"},
        "height_m": {"label": "Height of the pole"},
        "voltage_v": {"label": "Voltage", "hint": "as its sensor told it last night"},
        "flicker_per_night": {"label": "Flickers a night", "hint": "leave it out where there is no sensor"},
        "nights_since_visit": {"label": "Nights since the last visit"},
        "under_trees": {"label": "Stands under trees"},
    },
    "answers": {"fails": {"text": "Send somebody this week", "state": "act"}, "holds": {"text": "Nothing to do", "state": "fine"}},
}


def open_desk(client: lamppost.Client, endpoint: str) -> str:
    """Set the desk and make a link for the lighting office; returns the link."""
    client.fetch("PUT", f"/api/desks/{endpoint}", SETTINGS)
    for link in client.fetch("GET", f"/api/desks/{endpoint}")["links"]:
        if link["revoked_at"] is None and link["name"].startswith("lighting-office"):
            client.fetch("DELETE", f"/api/desks/{endpoint}/links/{link['name']}")
    taken = {link["name"] for link in client.fetch("GET", f"/api/desks/{endpoint}")["links"]}
    name = next(name for at in range(1, len(taken) + 2) if (name := f"lighting-office-{at}") not in taken)
    return str(client.fetch("POST", f"/api/desks/{endpoint}/links", {"name": name})["link"])
