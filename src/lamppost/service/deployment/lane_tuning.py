"""Combines the node's lane settings with the lane rules of all endpoints that use a lane."""

from __future__ import annotations

from collections.abc import Iterable

from lamppost.core.endpoint.setup import combine_lane_rules
from lamppost.core.names import VersionName
from lamppost.runtime.lane_options import LaneSettings, lane_settings
from lamppost.service.deployment.leases import LaneLeases
from lamppost.service.deployment.route_table import RouteTable


class LaneTuning:
    """Tunes the lanes of one node. cores : processors that copies of a lane may use."""

    def __init__(self, base: LaneSettings, table: RouteTable, cores: int) -> None:
        self._base = base
        self._table = table
        self._cores = cores

    def settings_of(self, version: VersionName) -> LaneSettings:
        """The present settings of a version's lane."""
        asked = combine_lane_rules(route.setup.lane for route in self._table.routes_naming(version))
        return lane_settings(self._base, asked, self._cores)

    def apply_to(self, leases: LaneLeases, versions: Iterable[VersionName]) -> None:
        """Apply the present settings to open lanes."""
        for version in set(versions):
            if (lane := leases.open_lane(version)) is not None:
                lane.apply_settings(self.settings_of(version))
