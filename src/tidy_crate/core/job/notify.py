"""Telling others when a job is done or in trouble: by mail, and by a signed web hook that cannot be replayed."""

from __future__ import annotations

import hashlib
import hmac
import json
import secrets
import smtplib
import ssl
import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from email.message import EmailMessage
from urllib.parse import urlsplit

import httpx

from tidy_crate.core.context.user import MailSettings, NotifySettings
from tidy_crate.core.errors import FarmError, TidyCrateError, WrongUsage
from tidy_crate.core.farm.links.registry import is_loopback
from tidy_crate.core.job.ledger import Ledger, submissions_of
from tidy_crate.core.job.tables import SubmissionRow
from tidy_crate.core.job.track import JobView
from tidy_crate.core.model import Model

SECONDS = 30.0
SIGNATURE, TIMESTAMP, ID = "X-Tidy-Crate-Signature", "X-Tidy-Crate-Timestamp", "X-Tidy-Crate-Id"
# seconds after which a receiver should refuse a message
OLDEST = 300
# states that others are told of
_TOLD = {
    "done": "is rendered",
    "failed": "has ended with failed frames",
    "cancelled": "was cancelled",
    "paused": "is paused",
    "held": "waits for a look at its test frames",
    "offered": "waits for the farm's quote to be accepted",
    "unpaid": "waits for money on the account",
}
# gives a secret by its purpose: `mail`, `hook`
Secret = Callable[[str], str]


class News(Model):
    """One message."""

    job: str
    kind: str
    """The state of the job; `clock` for a rented machine that is still paid for after the last frame is home."""
    text: str
    """One sentence."""
    details: tuple[str, ...] = ()


def news_of(view: JobView) -> News | None:
    """Return what there is to tell of a job, None while it goes on as it should."""
    kind, text = view.state, _TOLD.get(view.state)
    if view.billing and view.products and view.at_home >= view.products:
        kind = "clock"
        text = f"is home, and the rented machines at {', '.join(view.billing)} are still paid for"
    if text is None:
        return None
    costs = ", ".join(f"{amount:.2f} {currency}" for currency, amount in view.costs.items())
    details = [f"{view.done} of {view.total} frames are rendered, {view.at_home} of {view.products} files are home"]
    details += [f"cost: {costs}"] if costs else []
    details += [f"why: {line}" for line in view.why]
    failed = [f"frame {row.frame}: {(row.error or '').strip().splitlines()[-1:]}" for row in view.troubles[:5]]
    return News(job=view.job, kind=kind, text=f"{view.job} {text}", details=(*details, *failed))


@dataclass
class Notifier:
    """Tells others, each piece of news once: what was told is in the ledger."""

    settings: NotifySettings
    secret: Secret
    report: Callable[[str], None] = lambda _: None
    """Called with the news that could not be sent. It is tried again the next time."""
    clock: Callable[[], float] = time.time

    def look(self, ledger: Ledger, view: JobView) -> None:
        """Tell what is new about a job."""
        if not self.settings.is_set:
            return
        news = news_of(view)
        _, submissions = submissions_of(ledger, view.job)
        first = submissions[0] if submissions else None
        if first is None:
            return
        kind = news.kind if news is not None else ""
        if kind == first.told:
            return
        if news is not None and not self.send(news):
            return
        with ledger.writing() as session:
            session.get_one(SubmissionRow, first.id).told = kind

    def send(self, news: News) -> bool:
        """Send by every way that is set. Return whether all of them worked."""
        worked = True
        ways: Iterable[Callable[[News], None]] = [
            *([self._mail] if self.settings.mail is not None else []),
            *([self._hook] if self.settings.web_hook is not None else []),
        ]
        for way in ways:
            try:
                way(news)
            except TidyCrateError as error:
                worked = False
                self.report(f"{error.what}; it is tried again with the next look")
        return worked

    def _mail(self, news: News) -> None:
        assert self.settings.mail is not None
        send_mail(news, self.settings.mail, self.secret)

    def _hook(self, news: News) -> None:
        assert self.settings.web_hook is not None
        send_hook(news, self.settings.web_hook, self.secret("hook"), self.clock())


def send_mail(news: News, way: MailSettings, secret: Secret) -> None:
    """Send news by SMTP. Raises FarmError where the server does not take it."""
    where = f"{way.server}:{way.port}"
    try:
        message = EmailMessage()
        # a name that came from a farm may hold line ends, which a subject cannot
        message["Subject"] = " ".join(news.text.split())
        message["From"], message["To"] = way.sender, ", ".join(way.to)
        message.set_content("\n".join([f"{news.text}.", "", *news.details, ""]))
        with _connected(way) as server:
            if way.security == "starttls":
                server.starttls(context=ssl.create_default_context())
            elif way.security == "none" and not is_loopback(way.server):
                what = "mail would travel unencrypted"
                raise FarmError(what, where, "set security = 'starttls' or 'tls' below [notify.mail]")
            if way.user:
                server.login(way.user, secret("mail"))
            server.send_message(message)
    except (smtplib.SMTPException, OSError, ValueError) as error:
        # the library raises ValueError for addresses, users and passwords that the protocol cannot carry
        reason = " ".join(str(error).split())[:160]
        if way.user:
            word = secret("mail")
            reason = reason.replace(word, "[password]") if len(word) > 3 else reason
        what = f"the mail could not be sent ({reason})"
        raise FarmError(what, where, "correct [notify.mail] in config.toml") from error


def _connected(way: MailSettings) -> smtplib.SMTP:
    if way.security == "tls":
        return smtplib.SMTP_SSL(way.server, way.port, timeout=SECONDS, context=ssl.create_default_context())
    return smtplib.SMTP(way.server, way.port, timeout=SECONDS)


def signature(secret: str, timestamp: str, number: str, body: bytes) -> str:
    """Return the signature of a message: HMAC with SHA-256 (RFC 2104) over time, id and body, joined by full stops."""
    signed = timestamp.encode() + b"." + number.encode() + b"." + body
    return f"v1={hmac.new(secret.encode(), signed, hashlib.sha256).hexdigest()}"


def send_hook(news: News, url: str, secret: str, now: float) -> None:
    """Post news, signed. Raises WrongUsage for an address that is not encrypted, FarmError where it is not taken.

    A receiver compares the signature, refuses what is older than OLDEST seconds, and refuses an id that it has seen.
    """
    try:
        parts = urlsplit(url)
        _ = parts.port
    except ValueError as error:
        # the address may hold a secret
        raise WrongUsage("the web hook's address is wrong", None, "correct web_hook in config.toml") from error
    if parts.scheme != "https" and not is_loopback(parts.hostname or ""):
        raise WrongUsage("the web hook's address is not encrypted", url, "use https")
    body = json.dumps(news.model_dump(mode="json")).encode()
    number, timestamp = secrets.token_hex(16), str(int(now))
    headers = {
        "Content-Type": "application/json", TIMESTAMP: timestamp, ID: number,
        SIGNATURE: signature(secret, timestamp, number, body),
    }  # fmt: skip
    try:
        # a redirect is not followed: the message is for this address
        answer = httpx.post(url, content=body, headers=headers, timeout=SECONDS, follow_redirects=False)
    except (httpx.HTTPError, httpx.InvalidURL, OSError, ValueError) as error:
        # among these: a host name that cannot be one, a proxy variable of another kind
        what = f"the web hook cannot be reached ({' '.join(str(error).split())[:120]})"
        raise FarmError(what, parts.hostname, "correct web_hook in config.toml") from error
    if not answer.is_success:
        raise FarmError(f"the web hook answers with {answer.status_code}", parts.hostname, "see what it expects")
