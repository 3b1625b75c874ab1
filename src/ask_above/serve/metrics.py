"""What operators count, in the OpenMetrics format, summed over the workers of one machine; no name is in it."""

from __future__ import annotations

import os
from time import monotonic
from typing import Final

from prometheus_client import CollectorRegistry, Counter, Gauge, Histogram
from prometheus_client.multiprocess import MultiProcessCollector
from prometheus_client.openmetrics.exposition import CONTENT_TYPE_LATEST, generate_latest

from ask_above.serve.current import Current
from ask_above.serve.decisions import Decided

_SHARED: Final = "PROMETHEUS_MULTIPROC_DIR"
_BUCKETS = (0.0005, 0.001, 0.0025, 0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5)


class Metrics:
    """The counts of one worker; where there are several, each writes into a folder, and whoever is asked sums them."""

    def __init__(self) -> None:
        self.registry = CollectorRegistry()
        self.requests = Counter(
            "ask_above_requests", "Requests by path and status.", ["path", "status"], registry=self.registry
        )
        self.seconds = Histogram(
            "ask_above_request_seconds",
            "How long requests took.",
            ["path"],
            buckets=_BUCKETS,
            registry=self.registry,
        )
        self.decisions = Counter(
            "ask_above_decisions",
            "Decisions by action and outcome; an action that nothing has is other.",
            ["action", "decision"],
            registry=self.registry,
        )
        self.refused = Counter("ask_above_overload", "Requests turned away while busy.", registry=self.registry)
        self.age = Gauge(
            "ask_above_state_age_seconds",
            "For how long this state has been answered from.",
            registry=self.registry,
            multiprocess_mode="max",
        )
        self.state = Gauge(
            "ask_above_state",
            "The number of the journal's last change that is answered from.",
            registry=self.registry,
            multiprocess_mode="min",
        )
        self.faults = Counter("ask_above_reload_faults", "States that could not be read.", registry=self.registry)
        self._faults = 0

        # finding a counter by its labels costs more than counting, so that those found are kept
        self._decisions: dict[tuple[str, bool], Counter] = {}
        self._paths: dict[tuple[str, int], tuple[Counter, Histogram]] = {}

    def decided(self, one: Decided) -> None:
        """Count a decision."""
        key = (one.asked.name if one.asked is not None else "other"), one.allowed
        counter = self._decisions.get(key)
        if counter is None:
            counter = self._decisions[key] = self.decisions.labels(key[0], "permit" if one.allowed else "deny")
        counter.inc()

    def answered(self, path: str, status: int, seconds: float) -> None:
        """Count a request, and how long it took."""
        known = self._paths.get((path, status))
        if known is None:
            known = self.requests.labels(path, str(status)), self.seconds.labels(path)
            self._paths[path, status] = known
        known[0].inc()
        known[1].observe(seconds)

    def said(self, current: Current) -> tuple[bytes, str]:
        """Return the metrics as text, and its type."""
        self.age.set(monotonic() - current.now.since)
        self.state.set(current.now.state.last)
        self.faults.inc(current.faults - self._faults)
        self._faults = current.faults
        registry = self.registry
        if os.environ.get(_SHARED):
            registry = CollectorRegistry()
            MultiProcessCollector(registry)  # type: ignore[no-untyped-call]
        text: bytes = generate_latest(registry)  # type: ignore[no-untyped-call]
        return text, CONTENT_TYPE_LATEST
