"""The register in formats that other programs read: LDIF (RFC 2849), and SCIM resources as JSON lines (RFC 7643)."""

from __future__ import annotations

import io
import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

from ask_above.errors import QuestionError
from ask_above.people.register import Member, Status

_USER = "urn:ietf:params:scim:schemas:core:2.0:User"
_GROUP = "urn:ietf:params:scim:schemas:core:2.0:Group"


def as_ldif(key: str, members: Sequence[Member], groups: Mapping[str, Sequence[str]], *, contacts: bool) -> str:
    """Return members and the groups and ranks they are in as LDIF, below ``dc=KEY``; those retired are left out.

    ``groups`` are titles with the keys of those who are in each. Without ``contacts`` neither names nor addresses are
    in it. A mapping with ``number: uid`` reads it back.
    """
    try:
        from ldif import LDIFWriter
    except ImportError:
        raise QuestionError("LDIF needs more packages: pip install 'ask-above[directory]'") from None
    out = io.BytesIO()
    writer = LDIFWriter(out)
    there = {member.key for member in members if not member.is_retired}
    for member in members:
        if member.key not in there:
            continue
        name = member.called if contacts else member.key
        attributes = {"objectClass": ["inetOrgPerson"], "uid": [member.key], "cn": [name], "sn": [name.split()[-1]]}
        if contacts and member.email:
            attributes["mail"] = [member.email]
        if contacts and member.phone:
            attributes["telephoneNumber"] = [member.phone]
        writer.unparse(_person(member.key, key), attributes)
    for title, keys in groups.items():
        inside = [_person(each, key) for each in keys if each in there]
        if inside:
            attributes = {"objectClass": ["groupOfNames"], "cn": [title], "member": inside}
            writer.unparse(f"cn={_escaped(title)},ou=groups,dc={key}", attributes)
    return out.getvalue().decode("utf-8")


def _person(member: str, key: str) -> str:
    return f"uid={_escaped(member)},ou=people,dc={key}"


def _escaped(text: str) -> str:
    """Return a value as it stands in a name of an entry (RFC 4514)."""
    found = "".join(f"\\{sign}" if sign in ',+"\\<>;=' else sign for sign in text)
    return f"\\{found}" if found.startswith(("#", " ")) else found


def as_scim(members: Iterable[Member], groups: Mapping[str, Sequence[str]], *, contacts: bool) -> Iterator[str]:
    """Yield members, then groups, as SCIM resources, one a line; those retired are left out."""
    there = set()
    for member in members:
        if member.is_retired:
            continue
        there.add(member.key)
        user: dict[str, Any] = {"schemas": [_USER], "id": member.key, "userName": member.user_name or member.key}
        if contacts:
            user["userName"] = member.user_name or member.email or member.key
            user |= {"displayName": member.name} if member.name else {}
            user |= {"emails": [{"value": member.email, "type": "work"}]} if member.email else {}
            user |= {"phoneNumbers": [{"value": member.phone, "type": "work"}]} if member.phone else {}
        user |= {"externalId": member.external_id} if member.external_id else {}
        yield json.dumps({**user, "active": member.status != Status.LOCKED}, ensure_ascii=False)
    for title, keys in groups.items():
        inside = [{"value": key, "type": "User"} for key in keys if key in there]
        yield json.dumps({"schemas": [_GROUP], "displayName": title, "members": inside}, ensure_ascii=False)
