"""Spans for a collector: one trace from a job down to each request, without a secret, and none that is not wanted."""

from __future__ import annotations

from opentelemetry.proto.collector.trace.v1.trace_service_pb2 import ExportTraceServiceRequest

from tests.conftest import Shell
from tests.stories.test_jobs import with_jobs


def test_what_a_job_did_is_one_trace_and_no_secret_is_in_it(shell, serve, harbour):
    got: list[bytes] = []

    def collect(_method, _path, _query, body, _headers):
        got.append(body)
        return 200, b""

    collector = serve(collect, raw=True).url
    with_jobs(shell, "  round: {steps: [pull stowage]}\n")
    env = {"OTEL_EXPORTER_OTLP_ENDPOINT": collector, "OTEL_EXPORTER_OTLP_COMPRESSION": "none"}
    Shell(shell.folder)("job", "run", "round", env=env)
    spans = {}
    for body in got:
        for resource in ExportTraceServiceRequest.FromString(body).resource_spans:
            for scope in resource.scope_spans:
                spans |= {one.span_id: one for one in scope.spans}
    names = [one.name for one in spans.values()]
    assert {"concordex job", "job round", "concordex pull", "pull", "GET"} <= {*names}
    assert len({one.trace_id for one in spans.values()}) == 1
    (request, *_) = (one for one in spans.values() if one.name == "GET")
    facts = {fact.key: fact.value for fact in request.attributes}
    assert facts["http.response.status_code"].int_value == 200
    assert facts["concordex.system"].string_value == "stowage"
    path = [request.name]
    while (request := spans.get(request.parent_span_id)) is not None:
        path.append(request.name)
    assert path == ["GET", "pull", "concordex pull", "job round", "concordex job"]
    for secret in harbour.named("stowage").secrets().values():
        assert secret.encode() not in b"".join(got)


def test_a_collector_that_is_not_there_is_no_fault_and_none_that_is_wanted_costs_nothing(shell):
    done = Shell(shell.folder)("pull", "stowage", env={"OTEL_EXPORTER_OTLP_ENDPOINT": "http://127.0.0.1:1"})
    assert "whole" in done.stdout
    told = Shell(shell.folder)("pulls").stderr
    assert "opentelemetry" not in told.lower()
