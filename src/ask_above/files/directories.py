"""People and groups of a directory: read over LDAP v3 (RFC 4511) or from an LDIF file (RFC 2849), never written."""

from __future__ import annotations

import io
import json
import re
import ssl
from collections.abc import Iterable, Mapping
from contextlib import suppress
from pathlib import Path
from typing import Any, Final, NamedTuple
from urllib.parse import unquote, urlsplit

from ask_above.charter.names import how_many
from ask_above.charter.reading.document import Document
from ask_above.charter.reading.shapes import BAD, Choice, Field, ListOf, Record, TextField
from ask_above.errors import FaultyFilesError, StoreError
from ask_above.files.writing import contents
from ask_above.files.yaml_text import read_yaml

_PAGE: Final = 500
_PAGED: Final = "1.2.840.113556.1.4.319"
"""The control by which results come in pages."""
_SECONDS: Final = 20
_GROUP_CLASSES: Final = ("groupOfNames", "groupOfUniqueNames", "posixGroup", "group")
_PART_OF_DN = re.compile(r"(?:\\.|[^\\,])+")
_ESCAPED = re.compile(r"(?P<hex>(?:\\[0-9a-f]{2})+)|\\(?P<sign>.)")


class _Filled(TextField):
    """Text that says something: what a template left empty would take over more than is meant, or less."""

    def read(self, value: Any, path: tuple[str | int, ...], document: Document) -> Any:
        """Return the text."""
        blank = isinstance(value, str) and not value.strip()
        return super().read(None if blank else value, path, document)


_TEXT = _Filled()
_PEOPLE = Record(
    "people",
    {
        "base": Field(_TEXT, "where people are"),
        "filter": Field(_TEXT, "which entries are people; (objectClass=person) where left out"),
        "number": Field(_TEXT, "the attribute that tells people apart and never changes", required=True),
        "key": Field(_TEXT, "the attribute that a new member's key is made of; uid where left out"),
        "name": Field(_TEXT, "the attribute with the name; cn where left out"),
        "email": Field(_TEXT, "the attribute with the address; mail where left out"),
        "phone": Field(_TEXT, "the attribute with the telephone number; telephoneNumber where left out"),
    },
)
_GROUPS = Record(
    "groups",
    {
        "base": Field(_TEXT, "where groups are"),
        "filter": Field(_TEXT, "which entries are groups; those with members where left out"),
        "name": Field(_TEXT, "the attribute with the name; cn where left out"),
    },
)
_GIVES = Record(
    "what a directory's group gives",
    {
        "group": Field(_TEXT, "the group's name in the directory", required=True),
        "rank": Field(_TEXT, "the rank that its members are given"),
        "place": Field(_TEXT, "where; on the whole site where left out"),
        "into": Field(_TEXT, "the group here that its members are put into"),
    },
)
FORM = Record(
    "a mapping",
    {
        "name": Field(_TEXT, "what this directory is called here", required=True),
        "directory": Field(
            _TEXT,
            "ldaps://HOST, ldap://HOST, or a file beside this one: LDIF, or SCIM resources (.jsonl)",
            required=True,
        ),
        "bind": Field(_TEXT, "the name to bind with; anonymous where left out"),
        "tls": Field(Choice(("required", "none")), "none lets the password go in the open; required where left out"),
        "referrals": Field(Choice(("tell", "ignore")), "ignore leaves out what other servers hold, without a word"),
        "authority": Field(_TEXT, "a file with the certificates to trust, beside this one"),
        "people": Field(_PEOPLE, "which entries are people, and what of them is what", required=True),
        "groups": Field(_GROUPS, "which entries are groups"),
        "gives": Field(ListOf(_GIVES), "what the directory's groups give here"),
        "absent": Field(Choice(("tell", "leave", "retire")), "what becomes of those who are gone; tell where left out"),
        "most-absent": Field(_TEXT, "the share of those gone from which on nothing is done; 20% where left out"),
    },
)


class Gives(NamedTuple):
    """What a directory's group gives: a rank at a place, or membership of a group here."""

    group: str
    rank: str
    place: str
    into: str


class DirectoryMapping(NamedTuple):
    """A mapping as it was read; ``document`` tells where each thing stands."""

    said: Mapping[str, Any]
    folder: Path
    document: Document

    @property
    def name(self) -> str:
        """What the directory is called here."""
        return str(self.said["name"])

    @property
    def gives(self) -> list[Gives]:
        """What groups give."""
        return [
            Gives(each["group"], each.get("rank", ""), each.get("place", "site"), each.get("into", ""))
            for _, each in self.said.get("gives", ())
        ]

    @property
    def absent(self) -> str:
        """What becomes of those who are gone."""
        return str(self.said.get("absent", "tell"))

    @property
    def most_absent(self) -> float:
        """The share of those gone from which on nothing is done."""
        return float(str(self.said.get("most-absent", "20%")).rstrip("% ")) / 100

    @property
    def people(self) -> Mapping[str, str]:
        """What of people is what."""
        usual = {"filter": "(objectClass=person)", "key": "uid", "name": "cn", "email": "mail", "base": ""}
        usual["phone"] = "telephoneNumber"
        return {**usual, **self.said["people"]}

    @property
    def groups(self) -> Mapping[str, str]:
        """What of groups is what."""
        member = (
            "(|(objectClass=groupOfNames)(objectClass=groupOfUniqueNames)(objectClass=posixGroup)(objectClass=group))"
        )
        return {"filter": member, "name": "cn", "base": "", **self.said.get("groups", {})}


class DirectoryEntry(NamedTuple):
    """One entry of a directory: its name, and its attributes by their names in small letters."""

    dn: str
    attributes: Mapping[str, tuple[str, ...]]

    def first(self, name: str) -> str:
        """Return the first value of an attribute; nothing where it has none."""
        values = self.attributes.get(name.lower(), ())
        return values[0].strip() if values else ""

    def of_class(self, *names: str) -> bool:
        """Whether it is of one of some classes."""
        return bool(
            {each.lower() for each in self.attributes.get("objectclass", ())} & {name.lower() for name in names}
        )


class DirectoryRead(NamedTuple):
    """What a directory holds: people, and groups; ``elsewhere`` are references to other servers, which none follows."""

    people: tuple[DirectoryEntry, ...]
    groups: tuple[DirectoryEntry, ...]
    elsewhere: tuple[str, ...] = ()


def read_mapping(file: Path) -> DirectoryMapping:
    """Return a mapping; raises :class:`FaultyFilesError` with every fault of it."""
    document = read_yaml(file.name, contents(file))
    written: Any = FORM.read(document.data, (), document) if document.data is not None else BAD
    if written is not BAD and not document.faults:
        _check(written, document)
    if document.faults or written is BAD:
        raise FaultyFilesError(document.faults)
    return DirectoryMapping(written, file.parent, document)


def _check(said: Mapping[str, Any], document: Document) -> None:
    for n, given in said.get("gives", ()):
        if ("rank" in given) == ("into" in given):
            document.fault(
                ("gives", n), "one-of", "a group gives either a rank or membership", expected="rank: or into:"
            )
        if "place" in given and "into" in given:
            document.fault(("gives", n, "place"), "one-of", "a place goes with a rank", expected="rank: and place:")
    if ":" in said["name"]:  # stands between the name and a number: one directory's people would be another's
        document.fault(("name",), "bad-name", f"'{said['name']}' has a colon in it", expected="a name without :")
    share = str(said.get("most-absent", "20%")).rstrip("% ")
    if not share.replace(".", "", 1).isdecimal() or float(share) > 100:  # noqa: PLR2004 (per cent)
        document.fault(("most-absent",), "bad-share", f"'{share}' is no share", expected="a share such as 20%")


def read_directory(mapping: DirectoryMapping, password: str | None) -> DirectoryRead:
    """Return what a directory holds, all of it or nothing: raises ``StoreError`` where the connection is lost."""
    where = str(mapping.said["directory"])
    if where.startswith(("ldap://", "ldaps://")):
        return _over_the_wire(mapping, where, password)
    if where.endswith((".jsonl", ".scim")):
        return _from_scim(mapping.folder / where)
    return _from_ldif(mapping, mapping.folder / where)


def _from_ldif(mapping: DirectoryMapping, file: Path) -> DirectoryRead:
    try:
        from ldif import LDIFParser
    except ImportError:
        raise StoreError("LDIF needs more packages: pip install 'ask-above[directory]'") from None
    try:
        parser = LDIFParser(io.BytesIO(contents(file)))
    except OSError as error:
        raise StoreError(f"{file.name} cannot be read: {error.strerror or error}.") from None
    entries = []
    try:
        for dn, said in parser.parse():
            entries.append(_entry(str(dn), said))
    except (ValueError, KeyError, IndexError) as error:
        raise StoreError(f"{file.name}, near line {parser.line_counter}: this is no LDIF ({error}).") from None
    groups, people = [], []
    for entry in entries:
        if entry.of_class(*_GROUP_CLASSES):
            groups.append(entry)
        elif entry.first(mapping.people["number"]):
            people.append(entry)
    return DirectoryRead(
        tuple(person for person in people if _below(person.dn, mapping.people["base"])),
        tuple(group for group in groups if _below(group.dn, mapping.groups["base"])),
    )


def _from_scim(file: Path) -> DirectoryRead:
    """Read resources as RFC 7643 has them, one a line; they have the usual attributes of a directory as well."""
    people, groups = [], []
    try:
        lines = contents(file).decode("utf-8-sig").split("\n")
    except (OSError, UnicodeDecodeError) as error:
        raise StoreError(f"{file.name} cannot be read: {getattr(error, 'strerror', None) or error}.") from None
    for n, line in enumerate(lines, 1):
        try:
            resource = {key.lower(): value for key, value in json.loads(line).items()} if line.strip() else None
            if resource is not None and "username" in resource:
                people.append(_scim_user(resource))
            elif resource is not None:
                groups.append(_scim_group(resource))
        except (ValueError, TypeError, AttributeError, KeyError, RecursionError) as error:
            raise StoreError(f"{file.name}, line {n}: this is no SCIM resource ({error}).") from None
    return DirectoryRead(tuple(people), tuple(groups))


def _scim_user(said: Mapping[str, Any]) -> DirectoryEntry:
    plain = {key: value for key, value in said.items() if isinstance(value, str)}
    emails = said.get("emails") or []
    first = next((email for email in emails if email.get("primary")), emails[0] if emails else {})
    phones = said.get("phonenumbers") or [{}]
    usual = {"uid": plain["id"], "cn": plain.get("displayname", ""), "mail": str(first.get("value", ""))}
    usual["telephonenumber"] = str(phones[0].get("value", ""))
    usual["active"] = str(said.get("active", True))
    return DirectoryEntry(f"id={plain['id']}", {key: (value,) for key, value in (usual | plain).items() if value})


def _scim_group(said: Mapping[str, Any]) -> DirectoryEntry:
    inside = tuple(f"id={each['value']}" for each in said.get("members") or ())
    name = str(said["displayname"])
    return DirectoryEntry(
        f"id={said.get('id') or name}", {"cn": (name,), "objectclass": ("groupOfNames",), "member": inside}
    )


def _below(dn: str, base: str) -> bool:
    return not base or folded_dn(dn) == folded_dn(base) or folded_dn(dn).endswith(f",{folded_dn(base)}")


def folded_dn(dn: str) -> str:
    """Return an entry's name so that two spellings of it are one (RFC 4514).

    >>> folded_dn(r"CN=Reed\\2C Ida, OU = People") == folded_dn(r"cn=reed\\, ida,ou=people")
    True
    """
    parts = (part.partition("=") for part in _PART_OF_DN.findall(dn.casefold()))
    return ",".join(f"{name.strip()}={' '.join(_ESCAPED.sub(_as_written, value).split())}" for name, _, value in parts)


def _as_written(escaped: re.Match[str]) -> str:
    in_bytes = bytes.fromhex((escaped["hex"] or "").replace("\\", ""))
    return (escaped["sign"] or in_bytes.decode("utf-8", "replace")).casefold().replace(",", "\\,")


def _entry(dn: str, said: Mapping[str, Iterable[Any]]) -> DirectoryEntry:
    return DirectoryEntry(
        dn, {key.partition(";")[0].lower(): tuple(map(_text, values)) for key, values in said.items()}
    )


def _text(value: Any) -> str:
    return value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)


def _over_the_wire(mapping: DirectoryMapping, where: str, password: str | None) -> DirectoryRead:
    try:
        import ldap3
        from ldap3.core.exceptions import LDAPException
    except ImportError:
        raise StoreError("A directory needs more packages: pip install 'ask-above[directory]'") from None
    open_to_all = mapping.said.get("tls") == "none"
    try:
        tls = ldap3.Tls(
            validate=ssl.CERT_REQUIRED,
            ca_certs_file=str(mapping.folder / mapping.said["authority"]) if "authority" in mapping.said else None,
        )
        server = ldap3.Server(where, tls=tls, connect_timeout=_SECONDS, get_info=ldap3.NONE)
        bind = mapping.said.get("bind")
        connection = ldap3.Connection(
            server,
            user=bind,
            password=password if bind else None,
            receive_timeout=_SECONDS,
            raise_exceptions=True,
            auto_referrals=False,
        )
        connection.open()
        if where.startswith("ldap://") and not open_to_all:
            connection.start_tls()
        connection.bind()
        search = _Search(connection, ignores_references=mapping.said.get("referrals") == "ignore")
        people = search.all(mapping.people, [mapping.people[n] for n in ("number", "key", "name", "email", "phone")])
        groups = search.all(mapping.groups, [mapping.groups["name"]]) if mapping.gives else ()
    except (LDAPException, OSError, ssl.SSLError, PartialError) as error:
        raise StoreError(f"The directory {where} cannot be read: {_told(error)}. Nothing was done.") from None
    with suppress(LDAPException, OSError):
        connection.unbind()
    return DirectoryRead(people, groups, tuple(dict.fromkeys(search.elsewhere)))


class PartialError(Exception):
    """A directory answered with a part of what was asked for, or with nothing of it."""


def _told(error: Exception) -> str:
    return str(error).strip().rstrip(".") or type(error).__name__


class _Search:
    """Searches of a directory: each is read whole, page by page (RFC 2696), or not at all."""

    def __init__(self, connection: Any, *, ignores_references: bool) -> None:
        self.connection, self.ignores_references = connection, ignores_references
        self.elsewhere: list[str] = []

    def all(self, what: Mapping[str, str], attributes: list[str]) -> tuple[DirectoryEntry, ...]:
        """Return the entries of a search; raises :class:`PartialError` where these are not all there are."""
        entries: list[DirectoryEntry] = []
        cookie = None
        while True:
            self.connection.search(
                what["base"],
                what["filter"],
                attributes=[*attributes, "objectClass", "member", "uniqueMember", "memberUid", "memberOf", "uid"],
                paged_size=_PAGE,
                paged_cookie=cookie,
            )
            result = self.connection.result
            if result["result"] != 0:  # a limit, a referral: the library raises nothing for these
                raise PartialError(
                    f"{what['base']}: {result['description']} after {how_many(len(entries), 'entry', 'entries')}"
                )
            for response in self.connection.response or ():
                if response.get("type") == "searchResEntry":
                    entries.append(
                        _entry(response["dn"], {key: _list(value) for key, value in response["attributes"].items()})
                    )
                elif response.get("type") == "searchResRef":
                    self._refers(response.get("uri") or [], what["base"])
            controls = result.get("controls") or {}
            cookie = controls.get(_PAGED, {}).get("value", {}).get("cookie")
            if not cookie:
                return tuple(entries)

    def _refers(self, uris: list[str], base: str) -> None:
        """Note a reference to another server; one to a part of what was asked for means that this is not all."""
        if self.ignores_references:
            return
        for uri in uris:
            there = unquote(urlsplit(uri).path.lstrip("/").partition("?")[0])
            if there and _below(there, base):
                raise PartialError(f"a part of {base} is at {uri}; referrals: ignore in the mapping leaves it out")
            self.elsewhere.append(uri)


def _list(value: Any) -> Iterable[Any]:
    return value if isinstance(value, list) else [value]
