"""Requests made from the server's own OpenAPI document: none may be answered with a 5xx.

Pages are in the document as well here, with their query strings.  Made by schemathesis, half of
them as the document asks and half against it; where a file is sent, every second one has a name
that no program expects.
"""

from __future__ import annotations

import logging
import sys
import tempfile
import time
import warnings
from collections import Counter
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import schemathesis
from fastapi import FastAPI
from fastapi.openapi.utils import get_openapi
from fastapi.routing import APIRoute
from fastapi.testclient import TestClient
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import seed as seeded
from hypothesis.errors import Unsatisfiable
from schemathesis import GenerationMode

from mill_lane.web.app import create_app
from mill_lane.web.shared.settings import Settings
from tests.homes import furnished
from tests.web.test_names import NAMES

OPTIONS = {"cases": 10_000, "seed": 1}
BASE = "http://127.0.0.1:8410"
THERE = {"job", "trial", "task", "device", "profile"}
ENDLESS = ("/events",)  # streams, which are no answer to be waited for


def every_route(routes: Iterable[Any]) -> Iterator[APIRoute]:
    """All routes, also of routers within routers."""
    for route in routes:
        if isinstance(route, APIRoute):
            yield route
        inner = getattr(route, "original_router", None)
        if inner is not None:
            yield from every_route(inner.routes)


@contextmanager
def all_listed(app: FastAPI) -> Iterator[dict[str, Any]]:
    """The OpenAPI document with pages in it."""
    routes = list(every_route(app.router.routes))
    before = [r.include_in_schema for r in routes]
    for r in routes:
        r.include_in_schema = r.path not in ENDLESS
    try:
        yield get_openapi(title="Mill Lane", version="1", routes=app.routes)
    finally:
        for r, listed in zip(routes, before, strict=True):
            r.include_in_schema = listed


def run(cases: int = OPTIONS["cases"], seed: int = OPTIONS["seed"]) -> dict[str, Any]:
    """Try so many requests."""
    start = time.monotonic()
    statuses: Counter[int] = Counter()
    failures: list[str] = []
    warnings.simplefilter("ignore")
    logging.disable(logging.WARNING)
    with tempfile.TemporaryDirectory() as name:
        home = furnished(Path(name) / "home")
        (Path(name) / "scenes").mkdir()
        app = create_app(Settings(home, Path(name) / "scenes"))
        with all_listed(app) as document:
            paths = [(path, method) for path, ms in document["paths"].items() for method in ms]
            schema = schemathesis.openapi.from_dict(document)
            client = TestClient(app, base_url=BASE, raise_server_exceptions=False)
            with client:
                operations = [op.ok() for op in schema.get_all_operations()]
                each = -(-cases // (2 * len(operations)))
                for operation in operations:
                    for mode in (GenerationMode.POSITIVE, GenerationMode.NEGATIVE):
                        _try(operation, mode, each, seed, client, statuses, failures)
    # One of each address is enough to find out why.
    for text in {f.partition("{")[0]: f for f in failures}.values():
        print(text, file=sys.stderr)
    return {
        "cases": sum(statuses.values()),
        "errors_5xx": len(failures),
        "operations": len(paths),
        "seconds": time.monotonic() - start,
        **{f"answers, {k}": v for k, v in sorted(statuses.items())},
    }


def _try(
    operation: Any,
    mode: GenerationMode,
    count: int,
    seed: int,
    client: TestClient,
    statuses: Counter[int],
    failures: list[str],
) -> None:
    @seeded(seed)
    @settings(
        max_examples=count,
        deadline=None,
        database=None,
        phases=[Phase.generate],
        suppress_health_check=list(HealthCheck),
    )
    @given(case=operation.as_strategy(generation_mode=mode), file_name=NAMES)
    def inner(case: Any, file_name: str) -> None:
        if "name" in case.query and sum(statuses.values()) % 2:
            case.query["name"] = file_name
        # Of random numbers hardly any is a job's: most requests are about what is there.
        if case.path_parameters and sum(statuses.values()) % 4:
            for name in THERE & set(case.path_parameters):
                case.path_parameters[name] = 1
        given_ = case.as_transport_kwargs(base_url=BASE)
        kept = ("method", "url", "params", "json", "data", "content", "headers", "cookies")
        wanted = {k: v for k, v in given_.items() if k in kept and v is not None}
        if isinstance(wanted.get("data"), bytes):
            wanted["content"] = wanted.pop("data")
        try:
            answer = client.request(follow_redirects=False, **wanted)
        except (ValueError, TypeError):
            return  # no request that a client can send
        statuses[answer.status_code] += 1
        if answer.status_code >= 500:
            failures.append(
                f"{answer.status_code} {wanted['method']} {wanted['url']} "
                f"{str({k: v for k, v in wanted.items() if k in ('params', 'json')})[:300]}: "
                f"{answer.text[:200]}"
            )

    try:
        inner()
    except (Unsatisfiable, schemathesis.errors.SchemathesisError):
        return  # what takes nothing can be given nothing wrong
