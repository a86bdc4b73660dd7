"""Behind nginx with TLS, by the site file that is shipped: people sign in, cookies are for TLS alone, and the
address of a client is the client's.
"""

from __future__ import annotations

import http.client
import os
import shutil
import socket
import ssl
import subprocess
import sys
import urllib.error
import urllib.request
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser

from tests.servers.conftest import HERE, Shop, answers, free_port, wait_for

pytestmark = pytest.mark.slow

SITE = Path(__file__).parents[2] / "deploy" / "nginx.conf"
NAME = "colour.example"


class Proxied(Shop):
    """A shop with nginx in front of it."""

    def __init__(self, home: Path, folder: Path) -> None:
        self.tls, self.plain = free_port(), free_port()
        super().__init__(home, GREYANCHOR_URL=f"https://{NAME}:{self.tls}")
        self.folder = folder
        self.certificate = folder / "site.pem"

    def start_proxy(self) -> subprocess.Popen[bytes]:
        made = ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj",
                f"/CN={NAME}", "-addext", f"subjectAltName=DNS:{NAME}", "-keyout",
                str(self.folder / "site.key"), "-out", str(self.certificate)]  # fmt: skip
        subprocess.run(made, check=True, capture_output=True)
        site = SITE.read_text()
        for before, after in (
            ("server 127.0.0.1:8000;", f"server 127.0.0.1:{self.port};"),
            ("listen 80;", f"listen {HERE}:{self.plain};"),
            ("listen 443 ssl;", f"listen {HERE}:{self.tls} ssl;"),
            ("/etc/ssl/colour.example.pem", str(self.certificate)),
            ("/etc/ssl/private/colour.example.key", str(self.folder / "site.key")),
        ):
            assert before in site
            site = site.replace(before, after)
        (self.folder / "nginx.conf").write_text(
            f"daemon off; pid {self.folder}/nginx.pid; error_log {self.folder}/error.log;"
            + ("user root;" if os.getuid() == 0 else "")
            + f"events {{}} http {{ access_log off; client_body_temp_path {self.folder}/body; "
            + f"{site} }}"
        )
        program = shutil.which("nginx") or "/usr/sbin/nginx"
        return subprocess.Popen(
            [program, "-c", str(self.folder / "nginx.conf"), "-e", str(self.folder / "error.log")]
        )

    def asked(
        self, path: str, headers: dict[str, str] | None = None, tls: bool = True
    ) -> http.client.HTTPResponse:
        """Ask the proxy as a client of that name does; redirects are not followed."""
        line: http.client.HTTPConnection
        if tls:
            trusted = ssl.create_default_context(cafile=str(self.certificate))
            line = http.client.HTTPSConnection(NAME, self.tls, context=trusted, timeout=30)
        else:
            line = http.client.HTTPConnection(NAME, self.plain, timeout=30)
        plain = socket.create_connection((HERE, self.tls if tls else self.plain), timeout=30)
        line.sock = trusted.wrap_socket(plain, server_hostname=NAME) if tls else plain
        line.request("GET", path, headers={"Host": f"{NAME}:{self.tls}", **(headers or {})})
        return line.getresponse()


@pytest.fixture(scope="module")
def proxied(served_home: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Proxied]:
    if shutil.which("nginx") is None and not Path("/usr/sbin/nginx").exists():
        pytest.skip("nginx is not installed (Debian: nginx-light)")
    folder = tmp_path_factory.mktemp("proxy")
    shutil.copytree(served_home, folder / "home")
    made = Proxied(folder / "home", folder)
    proxy = made.start_proxy()
    made.start()
    wait_for(lambda: answers(made.tls))
    yield made
    proxy.terminate()
    proxy.wait()
    made.stop()


def test_somebody_signs_in_and_works_behind_tls(proxied: Proxied, browser: Browser) -> None:
    launched = browser.browser_type.launch(
        executable_path="/usr/bin/chromium",
        args=["--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-background-networking",
              "--disable-component-update", f"--host-resolver-rules=MAP {NAME} {HERE}"],
    )  # fmt: skip
    context = launched.new_context(ignore_https_errors=True)
    page = context.new_page()
    page.goto(f"https://{NAME}:{proxied.tls}/")
    page.get_by_label("Name").fill("ines")
    page.get_by_label("Password").fill("quay-street-1")
    page.get_by_role("button", name="Sign in").click()
    page.get_by_text("What needs doing").first.wait_for()
    assert page.url == f"https://{NAME}:{proxied.tls}/"
    cookies = {c["name"]: c for c in context.cookies()}
    assert cookies["sessionid"]["secure"] and cookies["sessionid"]["httpOnly"]
    assert cookies["csrftoken"]["secure"]
    page.goto(f"https://{NAME}:{proxied.tls}/media/")
    page.get_by_role("link", name="Harbour Proof Semimatt 235").first.wait_for()
    launched.close()


def test_plain_addresses_lead_to_tls_and_browsers_are_told_to_stay(proxied: Proxied) -> None:
    led = proxied.asked("/sign-in/", tls=False)
    assert led.status == 301 and led.headers["Location"].startswith("https://")
    found = proxied.asked("/sign-in/")
    assert found.status == 200 and "max-age=31536000" in found.headers["Strict-Transport-Security"]
    assert "default-src 'self'" in found.headers["Content-Security-Policy"]
    assert proxied.asked("/metrics").status == 404


def test_only_the_proxy_is_believed(proxied: Proxied) -> None:
    # a client that claims to be on the machine itself, or to have come by TLS, is what it is
    assert proxied.asked("/metrics", {"X-Forwarded-For": "127.0.0.1"}).status == 404
    assert proxied.asked("/sign-in/", {"Host": "elsewhere.example"}).status == 400
    with pytest.raises(urllib.error.HTTPError) as refused:
        asked = urllib.request.Request(f"{proxied.url}/sign-in/", headers={"Host": "elsewhere.example"})
        urllib.request.urlopen(asked, timeout=20)
    assert refused.value.code == 400


def test_deployment_settings_are_without_a_warning(proxied: Proxied) -> None:
    command = ["-m", "django", "check", "--deploy", "--fail-level", "WARNING"]
    settings = {**proxied.environment, "DJANGO_SETTINGS_MODULE": "greyanchor.config.settings"}
    done = subprocess.run([sys.executable, *command], env=settings, capture_output=True, text=True)
    assert done.returncode == 0 and "no issues" in done.stdout, done.stdout + done.stderr
