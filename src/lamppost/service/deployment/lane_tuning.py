"""Combines the node's lane settings with what all endpoints that use a lane ask for."""

from __future__ import annotations

from collections.abc import Iterable

from lamppost.core.endpoint.setup import combine_lane_rules
from lamppost.core.names import VersionName
from lamppost.runtime.lane_options import LaneSettings, lane_settings
from lamppost.service.deployment.leases import LaneLeases
from lamppost.service.deployment.route_table import RouteTable


class LaneTuning:
    """For the lanes of one node. cores : processors that copies of a lane may use."""

    def __init__(self, base: LaneSettings, table: RouteTable, cores: int) -> None:
        self._base = base
        self._table = table
        self._cores = cores

    def settings_of(self, version: VersionName) -> LaneSettings:
        """How the lane of a version is to be run now."""
        asked = combine_lane_rules(route.setup.lane for route in self._table.routes_naming(version))
        return lane_settings(self._base, asked, self._cores)

    def apply_to(self, leases: LaneLeases, versions: Iterable[VersionName]) -> None:
        """Give lanes that are open the settings that hold now."""
        for version in set(versions):
            if (lane := leases.open_lane(version)) is not None:
                lane.apply_settings(self.settings_of(version))
