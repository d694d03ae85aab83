"""The page on this machine: the same folder over HTTP, followed while a run goes on, and orders taken.

One guarded application.  Each request must name this server as its host, come from its own pages, and bring
the token: once in the address, then in a cookie that no other site's page can send.  Nothing outside the
folder of the page is handed out under any address.
"""

from __future__ import annotations

import asyncio
import json
import re
import secrets
from collections.abc import AsyncIterator, Callable, Mapping
from contextlib import asynccontextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Protocol

import anyio.to_thread
from starlette.applications import Starlette
from starlette.middleware import Middleware
from starlette.requests import Request
from starlette.responses import (
    FileResponse,
    JSONResponse,
    PlainTextResponse,
    RedirectResponse,
    Response,
    StreamingResponse,
)
from starlette.routing import Route
from starlette.types import ASGIApp, Receive, Scope, Send

from grandlattice.errors import LatticeError, OutputError

COOKIE = "grand-lattice"
_MOST_BODY = 5_000_000  # bytes
_MOST_WAITING = 50  # events that one browser may be behind before it has to come again
_ALIVE = 15.0  # seconds after which a browser that hears nothing is told that all is well
_KINDS = {".html": "text/html", ".js": "text/javascript", ".css": "text/css", ".jpg": "image/jpeg"}
_HEADERS = {
    "X-Content-Type-Options": "nosniff", "Referrer-Policy": "no-referrer", "X-Frame-Options": "DENY",
    "Cache-Control": "no-store", "Cross-Origin-Resource-Policy": "same-origin",
}  # fmt: skip


class Service(Protocol):
    """What a page is served from; every method may take its time, and is called in a thread."""

    folder: Path

    def look(self, tell: Callable[[Mapping[str, Any]], None]) -> None:
        """Tell what is new since the last look, as events for the page."""

    def choose(self, choices: Mapping[str, Any]) -> dict[str, Any]:
        """Take choices in; returns those of all cells."""

    def order(self, verb: str, details: Mapping[str, Any]) -> str:
        """Hand an order to the run, or change the plan; returns what came of it."""

    def pixels(self, key: str) -> bytes | None:
        """The script of the pixels of a pass, made now; None where there is nothing of that name."""

    def end(self) -> None:
        """Give up what a look has under way: the server ends."""


@dataclass
class _Listeners:
    """Browsers that listen, each with what it has not heard yet."""

    queues: set[asyncio.Queue[str]] = field(default_factory=set)

    def tell(self, event: Mapping[str, Any]) -> None:
        text = json.dumps(event, separators=(",", ":"), default=str)
        for queue in list(self.queues):
            try:
                queue.put_nowait(text)
            except asyncio.QueueFull:
                self.queues.discard(queue)  # it comes again, and hears how things stand

    async def events(self, first: Mapping[str, Any]) -> AsyncIterator[str]:
        queue: asyncio.Queue[str] = asyncio.Queue(_MOST_WAITING)
        self.queues.add(queue)
        try:
            yield f"retry: 2000\ndata: {json.dumps(first, default=str)}\n\n"
            while queue in self.queues:
                try:
                    yield f"data: {await asyncio.wait_for(queue.get(), _ALIVE)}\n\n"
                except TimeoutError:
                    yield ": well\n\n"
        finally:
            self.queues.discard(queue)


class _Guard:
    """Turns away whatever is not a page of this server."""

    def __init__(self, app: ASGIApp, token: str, hosts: frozenset[str], scheme: str) -> None:
        self._app, self._token, self._hosts, self._scheme = app, token, hosts, scheme

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] == "lifespan":
            await self._app(scope, receive, send)
            return
        if scope["type"] != "http":
            return
        answer = self._refusal(Request(scope))
        await (answer or self._app)(scope, receive, send)

    def _refusal(self, request: Request) -> Response | None:
        hosts, host = self._hosts, request.headers.get("host", "").lower()
        origin = request.headers.get("origin")
        if host not in hosts:
            return PlainTextResponse("This is not the host that was asked for.", 403, _HEADERS)
        if origin is not None and origin not in {f"{self._scheme}://{each}" for each in hosts}:
            return PlainTextResponse("Pages of others may not ask here.", 403, _HEADERS)
        if request.method not in ("GET", "HEAD", "POST"):
            return PlainTextResponse("Not here.", 405, _HEADERS)
        given = request.query_params.get("token", "")
        if given and request.url.path == "/" and secrets.compare_digest(given.encode(), self._token.encode()):
            answer = RedirectResponse("/", 303, _HEADERS)
            answer.set_cookie(
                COOKIE, self._token, httponly=True, samesite="strict", secure=self._scheme == "https"
            )
            return answer
        held = request.cookies.get(COOKIE, "")
        if not secrets.compare_digest(held.encode(), self._token.encode()):
            return PlainTextResponse(
                "Open the address that the terminal shows, with its token.", 403, _HEADERS
            )
        return None


def page_app(
    service: Service, token: str, hosts: frozenset[str], scheme: str = "http", every: float = 1.0
) -> Starlette:  # fmt: skip
    """The application of a page.

    Parameters
    ----------
    token : that a browser has to bring.
    hosts : names with ports under which this server may be asked.
    every : seconds between looks at the run.
    """
    listeners = _Listeners()
    latest: dict[str, Any] = {"kind": "begin"}

    async def look_on() -> None:
        loop = asyncio.get_running_loop()

        def tell(event: Mapping[str, Any]) -> None:
            latest[event["kind"]] = event
            loop.call_soon_threadsafe(listeners.tell, event)

        while True:
            with suppress(LatticeError, OSError):
                await anyio.to_thread.run_sync(service.look, tell)
            await asyncio.sleep(every)

    @asynccontextmanager
    async def life(_: Starlette) -> AsyncIterator[None]:
        looking = asyncio.create_task(look_on())
        yield
        looking.cancel()
        await anyio.to_thread.run_sync(service.end)

    async def events(_: Request) -> Response:
        return StreamingResponse(listeners.events(latest), media_type="text/event-stream", headers=_HEADERS)

    async def posted(request: Request) -> Any:
        """What a page sent."""
        if request.headers.get("content-type", "").partition(";")[0] != "application/json":
            raise ValueError("no JSON")
        body = b""
        async for part in request.stream():
            body += part
            if len(body) > _MOST_BODY:
                raise ValueError("too much")
        return json.loads(body)

    async def choices(request: Request) -> Response:
        return await _answered(posted(request), service.choose)

    async def order(request: Request) -> Response:
        def give(told: Mapping[str, Any]) -> str:
            return service.order(str(told.get("order", "")), told)

        return await _answered(posted(request), give)

    async def file(request: Request) -> Response:
        wanted = request.path_params["path"] or "index.html"
        path = _inside(service.folder, wanted)
        if path is None and (asked := re.fullmatch(r"px/([0-9a-f]{1,40}-\d{1,9}-\d{1,4})\.js", wanted)):
            with suppress(LatticeError, OSError):
                made = await anyio.to_thread.run_sync(service.pixels, asked[1])
                if made is not None:
                    return Response(made, media_type=_KINDS[".js"], headers=_HEADERS)
        if path is None:
            return PlainTextResponse("There is no such file on this page.", 404, _HEADERS)
        return FileResponse(path, media_type=_KINDS[path.suffix], headers=_HEADERS)

    routes = [
        Route("/events", events), Route("/choices", choices, methods=["POST"]),
        Route("/order", order, methods=["POST"]), Route("/{path:path}", file),
    ]  # fmt: skip
    guard = Middleware(_Guard, token=token, hosts=hosts, scheme=scheme)
    return Starlette(routes=routes, middleware=[guard], lifespan=life)


async def _answered(coming: Any, work: Callable[[Any], Any]) -> Response:
    """What came of something that was sent, or why nothing did."""
    try:
        told = await coming
        made = await anyio.to_thread.run_sync(work, told)
    except LatticeError as problem:
        return JSONResponse({"problem": str(problem.what), "cure": problem.cure or ""}, 409, _HEADERS)
    except (ValueError, TypeError, KeyError, AttributeError, RecursionError):
        return JSONResponse({"problem": "That was not understood."}, 400, _HEADERS)
    return JSONResponse({"came of it": made}, 200, _HEADERS)


def _inside(folder: Path, wanted: str) -> Path | None:
    """A file of the page; None for anything else."""
    if "\0" in wanted or "\\" in wanted or len(wanted) > 1000:
        return None
    path = folder / wanted
    try:
        real = path.resolve(strict=True)
        top = folder.resolve(strict=True)
    except (OSError, RuntimeError, ValueError):
        return None
    is_ours = real.is_relative_to(top) and real.is_file() and real.suffix in _KINDS and not path.is_symlink()
    return real if is_ours else None


def serve(
    service: Service, address: str, port: int, on_ready: Callable[[str], None], *,
    certificate: Path | None = None, key: Path | None = None, every: float = 1.0,
) -> None:  # fmt: skip
    """Serve a page until it is ended, by Ctrl-C.

    Parameters
    ----------
    address, port : where to listen; port 0 is any that is free.
    on_ready : is told the address to open, with its token.
    certificate, key : of TLS; without them on this machine only.
    every : seconds between looks.

    Raises
    ------
    OutputError
        When it cannot listen there, or the certificate and its key are none.
    """
    import socket
    import ssl

    import uvicorn

    token, scheme = secrets.token_urlsafe(24), "https" if certificate else "http"
    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    listening = socket.socket(family, socket.SOCK_STREAM)
    listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        if certificate is not None:
            ssl.create_default_context(ssl.Purpose.CLIENT_AUTH).load_cert_chain(certificate, key)
        listening.bind((address, port))
    except ssl.SSLError:
        listening.close()
        raise OutputError(
            f"{certificate} is no certificate, or {key or certificate} is not its key.",
            cure="name two files in PEM, with --certificate and --key",
        ) from None
    except OSError as problem:
        listening.close()
        raise OutputError(
            f"The page cannot be served at {address}:{port}: {problem.strerror or problem}.",
            cure="name another --port, or leave it out for any that is free",
        ) from None
    listening.listen(128)  # requests from now on wait until all is ready
    port = listening.getsockname()[1]
    names = {address, "localhost"} if address in ("127.0.0.1", "::1") else {address}
    hosts = frozenset(f"[{name}]:{port}" if ":" in name else f"{name.lower()}:{port}" for name in names)
    host = next(each for each in sorted(hosts) if not each.startswith("localhost"))
    app = page_app(service, token, hosts, scheme, every)
    config = uvicorn.Config(
        app, log_level="critical", access_log=False, timeout_graceful_shutdown=1, server_header=False,
        ssl_certfile=certificate, ssl_keyfile=key, date_header=False,
    )  # fmt: skip
    on_ready(f"{scheme}://{host}/?token={token}")
    with listening:
        uvicorn.Server(config).run(sockets=[listening])
