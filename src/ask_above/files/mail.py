"""Hand letters to a mail server (RFC 5321), one after the other; what was sent is put aside, what was not stays."""

from __future__ import annotations

import os
import smtplib
import ssl
from collections.abc import Callable, Iterator, Mapping
from contextlib import suppress
from email import policy
from email.errors import MessageError
from email.message import EmailMessage
from email.parser import BytesParser
from pathlib import Path
from typing import Final, NamedTuple

from ask_above.errors import StoreError

_SECONDS: Final = 20
SENT: Final = "sent"
"""The folder in the outbox that holds what was sent."""
SETTINGS: Final = {
    "ASK_ABOVE_MAIL_SERVER": "the server, HOST or HOST:PORT",
    "ASK_ABOVE_MAIL_FROM": "the address that letters come from",
    "ASK_ABOVE_MAIL_USER": "the name to sign in with; nobody signs in where it is left out",
    "ASK_ABOVE_MAIL_PASSWORD": "the password",
    "ASK_ABOVE_MAIL_TLS": "starttls (where left out), tls from the beginning, or none",
}
"""The variables of the environment that say how letters are sent."""


class Server(NamedTuple):
    """A mail server, and how to speak to it."""

    host: str
    port: int
    sender: str
    user: str
    password: str
    tls: str


class Sent(NamedTuple):
    """What became of one letter: to whom it went, and why not where it did not."""

    name: str
    to: str
    why_not: str = ""


def server_of(environment: Mapping[str, str]) -> Server:
    """Return the server that the environment names; raises ``StoreError`` that says what is missing or wrong."""
    where, sender = environment.get("ASK_ABOVE_MAIL_SERVER", ""), environment.get("ASK_ABOVE_MAIL_FROM", "")
    if not where or not sender:
        missing = "ASK_ABOVE_MAIL_SERVER" if not where else "ASK_ABOVE_MAIL_FROM"
        raise StoreError(f"Set {missing}: {SETTINGS[missing]}.")
    tls = environment.get("ASK_ABOVE_MAIL_TLS", "starttls")
    if tls not in ("starttls", "tls", "none"):
        raise StoreError(f"ASK_ABOVE_MAIL_TLS is '{tls}'; it may be starttls, tls or none.")
    host, _, port = where.rpartition(":") if where.rpartition(":")[2].isdecimal() else (where, "", "")
    usual = {"starttls": 587, "tls": 465, "none": 25}[tls]
    user = environment.get("ASK_ABOVE_MAIL_USER", "")
    return Server(host, int(port or usual), sender, user, environment.get("ASK_ABOVE_MAIL_PASSWORD", ""), tls)


def letters_in(outbox: Path) -> list[Path]:
    """Return the letters that wait, the oldest first."""
    return sorted(outbox.glob("*.eml")) if outbox.is_dir() else []


def reworded(raw: bytes, clean: Callable[[str], str]) -> bytes:
    """Return a letter with other words in its subject and its text; as it is where they are the same."""
    message = BytesParser(EmailMessage, policy=policy.SMTPUTF8).parsebytes(raw)
    if message.get_content_maintype() != "text":
        return raw
    subject, text = str(message["Subject"] or ""), message.get_content()
    if (clean(subject), clean(text)) == (subject, text):
        return raw
    message.replace_header("Subject", clean(subject))
    message.set_content(clean(text))
    return message.as_bytes()


def send(server: Server, letters: list[Path]) -> Iterator[Sent]:
    """Hand letters over and yield what became of each; raises ``StoreError`` where there is no speaking to the server.

    A letter that was taken is moved at once, so that one that is broken off sends none twice.
    """
    try:
        connection = _connected(server)
    except (OSError, smtplib.SMTPException) as error:
        raise StoreError(f"The mail server {server.host}:{server.port} cannot be spoken to: {_told(error)}.") from None
    with connection:
        for letter in letters:
            yield _one(connection, server, letter)


def _connected(server: Server) -> smtplib.SMTP:
    trusted = ssl.create_default_context(cafile=os.environ.get("SSL_CERT_FILE"))
    if server.tls == "tls":
        connection: smtplib.SMTP = smtplib.SMTP_SSL(server.host, server.port, timeout=_SECONDS, context=trusted)
    else:
        connection = smtplib.SMTP(server.host, server.port, timeout=_SECONDS)
        if server.tls == "starttls":
            connection.starttls(context=trusted)
    if server.user:
        connection.login(server.user, server.password)
    return connection


def _one(connection: smtplib.SMTP, server: Server, letter: Path) -> Sent:
    to = ""
    try:
        message = BytesParser(EmailMessage, policy=policy.SMTPUTF8).parsebytes(letter.read_bytes())
        to = str(message["To"] or "")
        del message["From"]
        message["From"] = server.sender
        if "Message-ID" not in message:
            message["Message-ID"] = f"<{letter.stem}@{server.sender.rpartition('@')[2]}>"
        connection.send_message(message)
    except (OSError, smtplib.SMTPException, MessageError, ValueError) as error:
        with suppress(smtplib.SMTPException, OSError):
            connection.rset()
        return Sent(letter.name, to, _told(error))
    aside = letter.parent / SENT
    aside.mkdir(mode=0o700, exist_ok=True)
    letter.replace(aside / letter.name)
    return Sent(letter.name, to)


def _told(error: Exception) -> str:
    if isinstance(error, smtplib.SMTPRecipientsRefused):
        code, said = next(iter(error.recipients.values()))
        return f"{code} {said.decode('utf-8', 'replace')}"
    if isinstance(error, smtplib.SMTPResponseException):
        words = error.smtp_error
        return f"{error.smtp_code} {words.decode('utf-8', 'replace') if isinstance(words, bytes) else words}"
    return str(error).strip().rstrip(".") or type(error).__name__
