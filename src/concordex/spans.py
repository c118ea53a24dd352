"""What was done as spans, for whoever collects them: where OpenTelemetry is installed and its variables say where to.

Names and attributes follow OpenTelemetry's semantic conventions for HTTP; no header, body or query is told.  A line of
a job goes on with the trace of its job (`TRACEPARENT`, W3C Trace Context); nothing of it is sent to a system.
"""

from __future__ import annotations

import atexit
import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import cache
from typing import Any

#: Any of these says that spans are wanted.
_WANTED = ("OTEL_EXPORTER_OTLP_ENDPOINT", "OTEL_EXPORTER_OTLP_TRACES_ENDPOINT")
#: Where the trace of whoever began this process stands.
PARENT = "TRACEPARENT"

#: Notes an attribute of a span that is under way.
Note = Callable[[str, Any], None]


def _nothing(_name: str, _value: Any) -> None:
    """Nobody collects it."""


@contextmanager
def span(name: str, **facts: Any) -> Iterator[Note]:
    """Do something as a span of that name; what is yielded notes more of it, as it becomes known."""
    if not any(os.environ.get(wanted) for wanted in _WANTED) or (tracer := _tracer()) is None:
        yield _nothing
        return
    from concordex.unseen import masked

    with tracer.start_as_current_span(name, context=_begun_by()) as made:

        def note(fact: str, value: Any) -> None:
            made.set_attribute(fact.replace("__", "."), masked(value) if isinstance(value, str) else value)

        for fact, value in facts.items():
            note(fact, value)
        yield note


def passed_on() -> dict[str, str]:
    """What a process that is begun here needs to go on with the trace."""
    if not any(os.environ.get(wanted) for wanted in _WANTED) or _tracer() is None:
        return {}
    from opentelemetry.trace.propagation.tracecontext import TraceContextTextMapPropagator

    carried: dict[str, str] = {}
    TraceContextTextMapPropagator().inject(carried)
    return {PARENT: carried["traceparent"]} if "traceparent" in carried else {}


@cache
def _tracer() -> Any:
    """What makes spans; None where the libraries are not installed, which is no fault of what is done."""
    try:
        from opentelemetry import trace
        from opentelemetry.exporter.otlp.proto.http.trace_exporter import OTLPSpanExporter
        from opentelemetry.sdk.resources import Resource
        from opentelemetry.sdk.trace import TracerProvider
        from opentelemetry.sdk.trace.export import BatchSpanProcessor
    except ImportError:
        return None
    from logging import ERROR, getLogger

    from concordex.version import __version__

    resource = Resource.create({"service.name": "concordex", "service.version": __version__})
    getLogger("opentelemetry.exporter").setLevel(ERROR)  # its last word is enough where nobody collects
    provider = TracerProvider(resource=resource, shutdown_on_exit=False)
    provider.add_span_processor(BatchSpanProcessor(OTLPSpanExporter(timeout=2)))
    atexit.register(provider.shutdown)
    trace.set_tracer_provider(provider)
    return trace.get_tracer("concordex")


def _begun_by() -> Any:
    """The trace that this process goes on with, where no span is under way here."""
    from opentelemetry import trace

    if trace.get_current_span().get_span_context().is_valid or not os.environ.get(PARENT):
        return None
    from opentelemetry.trace.propagation.tracecontext import TraceContextTextMapPropagator

    return TraceContextTextMapPropagator().extract({"traceparent": os.environ[PARENT]})
