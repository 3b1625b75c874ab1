"""What operators count, in the OpenMetrics format, summed over the workers of one machine; no name is in it."""

from __future__ import annotations

import os
from time import time
from typing import Final

from prometheus_client import CollectorRegistry, Counter, Gauge, Histogram
from prometheus_client.multiprocess import MultiProcessCollector
from prometheus_client.openmetrics.exposition import CONTENT_TYPE_LATEST, generate_latest

from ask_above.serve.current import Current
from ask_above.serve.decisions import Decided

_SHARED: Final = "PROMETHEUS_MULTIPROC_DIR"
_BUCKETS = (0.0005, 0.001, 0.0025, 0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5)


class Metrics:
    """The counts of one worker; where there are several, each writes into a folder, and whoever is asked sums them.

    What is of a moment is set as soon as it is so, and not when somebody asks: another worker may be asked. How stale a
    worker is follows from the moment of its last good look, which each of them keeps.
    """

    def __init__(self) -> None:
        self.registry = CollectorRegistry()
        self.requests = self._counter("requests", "Requests by path and status.", "path", "status")
        self.seconds = Histogram(
            "ask_above_request_seconds", "How long requests took.", ["path"], buckets=_BUCKETS, registry=self.registry
        )
        self.decisions = self._counter(
            "decisions", "Decisions by action and outcome; an action that nothing has is other.", "action", "decision"
        )
        self.searches = self._counter("searches", "Searches, and questions by the dozen.")
        self.writes = self._counter("writes", "Writes by provisioning, by status.", "status")
        self.dropped = self._counter("decisions_unrecorded", "Decisions that could not be written to their record.")
        self.refused = self._counter("overload", "Requests turned away while busy.")
        self.faults = self._counter("reload_faults", "States that could not be read.")
        self.state = self._gauge("state", "The number of the journal's last change that is answered from.")
        self.since = self._gauge("state_since_seconds", "Since when this state has been answered from.")
        self.looked = self._gauge("last_look_seconds", "When it was last seen which state is the newest.")
        self._faults = 0

        # finding a counter by its labels costs more than counting, so that those found are kept
        self._decisions: dict[tuple[str, bool], Counter] = {}
        self._paths: dict[tuple[str, int], tuple[Counter, Histogram]] = {}

    def _counter(self, name: str, about: str, *labels: str) -> Counter:
        return Counter(f"ask_above_{name}", about, labels, registry=self.registry)

    def _gauge(self, name: str, about: str) -> Gauge:
        """Make a gauge of which the least counts, of the workers that live: the one that is furthest behind."""
        return Gauge(f"ask_above_{name}", about, registry=self.registry, multiprocess_mode="livemin")

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

    def written(self, status: int) -> None:
        """Count a write by provisioning."""
        self.writes.labels(str(status)).inc()

    def looked_on(self, current: Current) -> None:
        """Keep what is of this moment: the state that is answered from, and when it was last looked."""
        self.state.set(current.now.state.last)
        self.since.set(current.since_at)
        self.looked.set(current.looked_at)
        self.faults.inc(current.faults - self._faults)
        self._faults = current.faults

    def said(self, current: Current) -> tuple[bytes, str]:
        """Return the metrics as text, and its type."""
        self.looked_on(current)
        registry = self.registry
        if os.environ.get(_SHARED):
            registry = CollectorRegistry()
            MultiProcessCollector(registry)  # type: ignore[no-untyped-call]
        return generate_latest(_WithAges(registry)), CONTENT_TYPE_LATEST  # type: ignore[no-untyped-call]


class _WithAges:
    """A registry with what follows from its moments: how old the state is, and for how long nobody could look."""

    def __init__(self, registry: CollectorRegistry) -> None:
        self.registry = registry

    def collect(self) -> object:
        """Yield all that the registry has, and the ages."""
        from prometheus_client.core import GaugeMetricFamily

        ages = {
            "ask_above_state_since_seconds": ("ask_above_state_age_seconds", "For how long this state was answered."),
            "ask_above_last_look_seconds": ("ask_above_stale_seconds", "How old the last good look is."),
        }
        for family in self.registry.collect():
            yield family
            if family.name in ages and family.samples:
                name, about = ages[family.name]
                oldest = min(sample.value for sample in family.samples)
                yield GaugeMetricFamily(name, about, value=max(0.0, time() - oldest))
