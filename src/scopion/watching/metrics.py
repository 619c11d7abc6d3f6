"""Metrics of the watch in the OpenMetrics text format, on a port of this machine alone.

They are read from the watch's own counts at each request; nothing is kept twice.
"""

from __future__ import annotations

import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from scopion.watching.watch_site import Watch

_HOST = "127.0.0.1"
_TYPE = "application/openmetrics-text; version=1.0.0; charset=utf-8"


class MetricsServer:
    """Answers on the port that the settings name."""

    def __init__(self, watch: Watch, port: int) -> None:
        collector = _Collector(watch)

        class Handler(BaseHTTPRequestHandler):
            timeout = 5

            def do_GET(self) -> None:
                if self.path.partition("?")[0] != "/metrics":
                    self.send_error(404, "the metrics are at /metrics")
                    return
                body = collector.text()
                self.send_response(200)
                self.send_header("Content-Type", _TYPE)
                self.send_header("Content-Length", str(len(body)))
                self.end_headers()
                self.wfile.write(body)

            def log_message(self, format: str, *args: object) -> None:
                """Log nothing: requests are not worth it."""

        self._server = ThreadingHTTPServer((_HOST, port), Handler)
        self._server.daemon_threads = True
        threading.Thread(target=self._server.serve_forever, name="metrics", daemon=True).start()

    @classmethod
    def serving(cls, watch: Watch) -> MetricsServer | None:
        """Return a server if the settings ask for one and the network is real; the watch also runs without one."""
        port = watch.context.site.settings.watch.metrics_port
        if port is None or watch.context.site.story is not None:
            return None
        try:
            return cls(watch, port)
        except OSError as error:
            watch.context.trouble("serving metrics", f"metrics_port {port} cannot be used: {error.strerror}")
            return None

    def close(self) -> None:
        """Stop answering."""
        self._server.shutdown()
        self._server.server_close()


class _Collector:
    """Turns the counts into metric families; the watch writes the counts, this only reads them."""

    def __init__(self, watch: Watch) -> None:
        self._watch = watch

    def text(self) -> bytes:
        """Return the exposition."""
        from prometheus_client import CollectorRegistry
        from prometheus_client.openmetrics.exposition import generate_latest

        registry = CollectorRegistry(auto_describe=False)
        registry.register(self)
        written: bytes = generate_latest(registry)  # type: ignore[no-untyped-call]
        return written

    def collect(self) -> Iterator[Any]:
        """Yield the families, as the library asks for them."""
        from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily

        watch, counts = self._watch, self._watch.context.counts
        present = GaugeMetricFamily("scopion_present_devices", "Devices that are here")
        present.add_metric([], watch.context.known.devices)
        yield present
        stations = GaugeMetricFamily("scopion_stations", "Stations that the access points reported last")
        stations.add_metric([], watch.enforcing.stations)
        yield stations
        for name, said, label, counter in (
            ("scopion_sweeps", "Sweeps by how they ended", "outcome", counts.sweeps),
            ("scopion_observations", "Observations by source", "source", counts.observations),
            ("scopion_events", "Events by kind", "kind", counts.events),
            ("scopion_errors", "What went wrong, by what was being done", "doing", counts.errors),
        ):
            family = CounterMetricFamily(name, said, labels=[label])
            for key, count in sorted(counter.copy().items()):
                family.add_metric([key], count)
            yield family
        for name, said, number in (
            ("scopion_frames", "Frames that were heard", counts.frames),
            ("scopion_frames_malformed", "Malformed frames", counts.malformed),
            ("scopion_frames_dropped", "Frames that the kernel had no room for", counts.dropped),
            ("scopion_passed_over", "Claims of new addresses beyond the limit", counts.passed_over),
        ):
            yield CounterMetricFamily(name, said, value=number)
        deliveries = CounterMetricFamily(
            "scopion_deliveries", "Attempts to deliver, by channel and result", labels=["channel", "outcome"]
        )
        for (channel, outcome), count in sorted(counts.deliveries.copy().items()):
            deliveries.add_metric([channel, outcome], count)
        yield deliveries
        depth = GaugeMetricFamily("scopion_outbox_depth", "Alerts that are due and not delivered", labels=["channel"])
        age = GaugeMetricFamily(
            "scopion_outbox_age_seconds", "How long the oldest of them has been due", labels=["channel"], unit="seconds"
        )
        for channel, (waiting, seconds) in sorted(watch.outbox_state.items()):
            depth.add_metric([channel], waiting)
            age.add_metric([channel], seconds)
        yield depth
        yield age
        silent = GaugeMetricFamily(
            "scopion_sensor_silent_seconds",
            "How long nothing was heard of a sensor",
            labels=["sensor", "place"],
            unit="seconds",
        )
        for (name, place), seconds in sorted(watch.sensors.silent_s.items()):
            silent.add_metric([name, place], seconds)
        yield silent
