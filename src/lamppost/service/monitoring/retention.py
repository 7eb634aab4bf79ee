"""Rolls histograms up to coarser steps, and deletes expired records and statistics."""

from __future__ import annotations

from datetime import datetime

from lamppost.service.deployment.deployment import Deployment
from lamppost.store import packages, timeline
from lamppost.store.database import Pool
from lamppost.store.deletion import endpoint_deletion


async def roll_up_and_delete(pool: Pool, deployment: Deployment, now: datetime) -> None:
    """Both, for all endpoints; an endpoint that is gone keeps its records for the usual time."""
    async with pool.connection() as connection, connection.transaction():
        await packages.lock_chunks(connection)
        await packages.delete_unused_chunks(connection)
    await endpoint_deletion.free_expired_names(pool)
    await timeline.roll_up_histograms(pool, now)
    settings = {name: route.setup.monitoring for name, route in deployment.table.by_endpoint.items()}
    await timeline.delete_expired(
        pool, {name: (settings_of.keep_days, settings_of.statistics_days) for name, settings_of in settings.items()}, now
    )
