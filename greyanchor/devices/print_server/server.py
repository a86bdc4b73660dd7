"""The stand-in printer on the line: HTTP, and the pictures of its prints."""

from __future__ import annotations

import tempfile
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import IO, Any

from greyanchor.devices.ipp.encoding import encode
from greyanchor.devices.print_server.machine import Model, PrintingMachine
from greyanchor.devices.print_server.operations import answered
from greyanchor.devices.print_server.spool import Spool

#: bytes of a document at most
MOST_DOCUMENT = 40 * 2**30
_CHUNK = 1 << 20


class PrintServer(ThreadingHTTPServer):
    """A printer that listens on loopback.

    Parameters
    ----------
    folder
        Where its spool is.
    model, media, width
        What it is, what is in it.
    port
        0 for any that is free.
    """

    daemon_threads = True

    def __init__(self, folder: Path, model: Model, media: str, width: float, port: int = 0) -> None:
        self.machine = PrintingMachine(Spool(folder), model, media, width)
        #: switched off, it takes no connection in: as if the network were gone
        self.is_reachable = True
        self.slow_by = 0.0
        super().__init__(("127.0.0.1", port), _Handler)
        self.machine.start()

    @property
    def address(self) -> str:
        """Where it is asked."""
        return f"ipp://127.0.0.1:{self.server_address[1]}/ipp/print"

    @property
    def page(self) -> str:
        """Where its pictures are."""
        return f"http://127.0.0.1:{self.server_address[1]}/"

    def verify_request(self, request: Any, client_address: Any) -> bool:
        """Whether a connection is taken in."""
        return self.is_reachable

    def server_close(self) -> None:
        """The machine stops too."""
        self.machine.stop()
        super().server_close()


class _Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    server_version = "GreyAnchorPrinter/1"
    timeout = 60
    server: PrintServer

    def log_message(self, *_: Any) -> None:
        """Nothing is written for each request."""

    def do_GET(self) -> None:
        """Pictures of prints."""
        name = self.path.removeprefix("/prints/").removesuffix(".png")
        path = self.server.machine.spool.picture(int(name)) if name.isdecimal() and len(name) < 10 else None
        if path is None or not path.exists():
            self.send_error(404)
            return
        data = path.read_bytes()
        self.send_response(200)
        self.send_header("Content-Type", "image/png")
        self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        self.wfile.write(data)

    def do_POST(self) -> None:
        """A request of IPP, with its document."""
        if self.headers.get("Content-Type") != "application/ipp":
            self.close_connection = True
            self.send_error(415)
            return
        spool = self.server.machine.spool.folder
        try:
            with tempfile.NamedTemporaryFile(dir=spool, prefix="coming-", delete=False) as body:
                place = Path(body.name)
                self._receive(body)
            answer = answered(self.server, place)
        except (ConnectionError, TimeoutError, ValueError):
            self.close_connection = True
            place.unlink(missing_ok=True)
            return
        finally:
            place.unlink(missing_ok=True)
        data = encode(answer)
        self.send_response(200)
        self.send_header("Content-Type", "application/ipp")
        self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        self.wfile.write(data)

    def _receive(self, body: IO[bytes]) -> None:
        if self.headers.get("Transfer-Encoding", "").lower() == "chunked":
            whole = 0
            while size := int(self.rfile.readline(64).split(b";")[0].strip() or b"0", 16):
                whole += size
                self._copy(body, size, whole)
                self.rfile.readline(8)
            while self.rfile.readline(1024).strip():
                pass
        else:
            size = int(self.headers.get("Content-Length", 0))
            self._copy(body, size, size)

    def _copy(self, body: IO[bytes], size: int, whole: int) -> None:
        if whole > MOST_DOCUMENT:
            raise ValueError("too large")
        while size > 0:
            part = self.rfile.read(min(size, _CHUNK))
            if not part:
                raise ConnectionError("cut off")
            body.write(part)
            size -= len(part)
