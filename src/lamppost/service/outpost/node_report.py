"""What a node without a database says of itself to its hub."""

from __future__ import annotations

import shutil
from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Any

import lamppost
from lamppost.service.outpost.record_delivery import PayloadBudget
from lamppost.service.outpost.standalone_node import StandaloneNode

_MOST_REASON = 2_000


def report_of_node(node: StandaloneNode, instance: str, budget: PayloadBudget, refused: Mapping[str, tuple[str, str]]) -> dict[str, Any]:
    """The report of a node. instance : by which another process of its name is known. refused : by endpoint, the version that is not
    served, and why.
    """
    return {
        "instance": instance,
        "software": lamppost.__version__,
        "address": node.settings.public_address,
        "served": {
            endpoint: {
                "version": str(route.in_force.version),
                "state": route.status.state,
                "versions": [str(version) for version in route.setup.versions],
            }
            for endpoint, route in node.deployment.table.by_endpoint.items()
        },
        "refused": {endpoint: {"version": version, "reason": reason[:_MOST_REASON]} for endpoint, (version, reason) in refused.items()},
        "records_waiting": node.recorder.waiting,
        "payloads_left_out": budget.spent_on(datetime.now(UTC).timestamp()).left_out,
        "disk_free_bytes": shutil.disk_usage(node.settings.data).free,
    }
