"""A report as metrics, for monitoring that reads text files (OpenMetrics 1.0)."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from prometheus_client import CollectorRegistry
from prometheus_client.core import GaugeMetricFamily, HistogramMetricFamily, Metric
from prometheus_client.openmetrics.exposition import generate_latest

from salt_mirror.checks.audit.lines import Audit
from salt_mirror.report.cleaning import clean
from salt_mirror.report.document import Report


def written(report: Report) -> bytes:
    """Return the metrics of a report."""
    registry = CollectorRegistry(auto_describe=False)
    registry.register(_MetricCollector(report))
    text: bytes = generate_latest(registry)
    return text


class _MetricCollector:
    def __init__(self, report: Report) -> None:
        self._report = report
        self._audit = report.audit if isinstance(report.audit, Audit) else None

    def collect(self) -> Iterator[Metric]:
        """Return every metric."""
        report, audit = self._report, self._audit
        if audit is not None:
            yield from self._zones(audit)
        findings = GaugeMetricFamily(
            "saltmirror_findings", "Findings of the last run, by weight; doubts are unverified.", labels=("weight",)
        )
        for weight in ("fault", "caution", "note"):
            findings.add_metric([weight], len(report.weighing(weight)))
        findings.add_metric(["unverified"], len(report.unverified))
        yield findings
        yield _gauge("saltmirror_questions", "Questions put to servers in the last run.", report.counts.questions)
        saved = audit.saved if audit is not None else 0
        yield _gauge(
            "saltmirror_questions_saved", "Questions that several checks had, and that were asked once.", saved
        )
        yield _gauge("saltmirror_run_seconds", "How long the last run took.", report.seconds, "seconds")
        interrupted = "Whether the last run was interrupted, so that its numbers are not the whole."
        yield _gauge("saltmirror_run_interrupted", interrupted, float(report.interrupted))
        began = round(report.started.timestamp())
        yield _gauge("saltmirror_run_timestamp_seconds", "When the last run began.", began, "seconds")
        if audit is not None and audit.round_trips:
            trips = HistogramMetricFamily(
                "saltmirror_round_trip_seconds", "Round trips of the last run.", unit="seconds"
            )
            trips.add_metric([], list(audit.round_trips.items()), audit.round_trip_sum)
            yield trips

    def _zones(self, audit: Audit) -> Iterator[Metric]:
        where = ("check", "zone", "view")
        subjects = GaugeMetricFamily(
            "saltmirror_subjects", "Subjects of a check in a zone, by outcome.", labels=(*where, "outcome")
        )
        lags = GaugeMetricFamily(
            "saltmirror_serial_lag",
            "Versions that a server is behind the newest, negative when ahead.",
            labels=("zone", "view", "server"),
        )
        weights = GaugeMetricFamily(
            "saltmirror_zone_findings", "Findings of a check in a zone, by weight.", labels=(*where, "weight")
        )
        of_server = ("zone", "view", "server")
        serials = GaugeMetricFamily("saltmirror_zone_serial", "The SOA serial that a server has.", labels=of_server)
        ages = GaugeMetricFamily(
            "saltmirror_zone_serial_age_seconds",
            "Seconds since a run first saw a server's serial there.",
            labels=of_server,
            unit="seconds",
        )
        signatures = GaugeMetricFamily(
            "saltmirror_signatures_remaining_seconds",
            "Seconds until the first signature of a zone ends, negative when it has.",
            labels=("zone", "view"),
            unit="seconds",
        )
        since = GaugeMetricFamily(
            "saltmirror_since_agreement_seconds",
            "Seconds since a check last agreed in a zone.",
            labels=where,
            unit="seconds",
        )
        for line in audit.zones:
            view = clean(line.view)
            for check, tally in line.checks.items():
                for outcome, number in tally.by_outcome:
                    subjects.add_metric([check, line.zone, view, outcome], number)
                weights.add_metric([check, line.zone, view, "fault"], tally.faults)
                weights.add_metric([check, line.zone, view, "caution"], tally.cautions)
            for server, lag in line.serial_lag.items():
                lags.add_metric([line.zone, view, clean(server)], lag)
            for server, serial in line.serials.items():
                serials.add_metric([line.zone, view, clean(server)], serial)
            for server, moment in line.serial_since.items():
                ages.add_metric([line.zone, view, clean(server)], self._seconds_since(moment))
            if line.signatures_end is not None:
                left = round((line.signatures_end - self._report.started).total_seconds())
                signatures.add_metric([line.zone, view], left)
            for check, moment in line.last_agreement.items():
                since.add_metric([check, line.zone, view], self._seconds_since(moment))
        yield from (subjects, weights, lags, serials, ages, signatures, since)

    def _seconds_since(self, moment: datetime) -> int:
        return max(0, round((self._report.started - moment).total_seconds()))


def _gauge(name: str, words: str, value: float, unit: str = "") -> Metric:
    return GaugeMetricFamily(name, words, value=value, unit=unit)
