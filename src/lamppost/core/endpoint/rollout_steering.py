"""What people may do with a rollout: hold it, let it go on, end it either way. The same for rollouts of an endpoint and over outposts."""

from __future__ import annotations

from dataclasses import dataclass, replace
from dataclasses import field as default
from typing import Literal, Self

from lamppost.core.errors import Conflict

RolloutAction = Literal["pause", "resume", "finish", "back"]
RolloutState = Literal["running", "paused", "done", "back", "ended"]
OVER: frozenset[str] = frozenset({"done", "back", "ended"})


@dataclass(frozen=True, slots=True)
class SteeredRollout:
    """A rollout that people steer. reason : the last decision in one sentence."""

    state: RolloutState = default(default="running", kw_only=True)
    reason: str = default(default="", kw_only=True)

    @property
    def subject(self) -> str:
        """What is rolled out, in a few words."""
        raise NotImplementedError

    @property
    def place(self) -> str:
        """Where the rollout is, in words that follow a verb; empty where it is nowhere yet."""
        raise NotImplementedError

    def pause(self, by: str) -> Self:
        """Stay where it is; guards are still read."""
        return replace(self._live("paused"), state="paused", reason=f"paused by {by}{self.place}")

    def resume(self, by: str) -> Self:
        """Go on."""
        if self.state != "paused":
            raise Conflict(f"the rollout of {self.subject} is {self.state}, not paused")
        return replace(self, state="running", reason=f"resumed by {by}")

    def finish(self, by: str) -> Self:
        """Give the new version everything now."""
        return replace(self._live("finished"), state="done", reason=f"finished by {by}{self.place}")

    def back(self, by: str) -> Self:
        """Give the old version everything back now."""
        return replace(self._live("taken back"), state="back", reason=f"taken back by {by}{self.place}")

    def end(self, reason: str) -> Self:
        """End the rollout because something else was set meanwhile."""
        return replace(self._live("ended"), state="ended", reason=reason)

    def _live(self, what: str) -> Self:
        if self.state in OVER:
            raise Conflict(f"the rollout of {self.subject} is over ({self.reason}); it cannot be {what}")
        return self
