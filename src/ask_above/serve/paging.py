"""Pages of a search: where the last one ended, signed and bound to what was asked, so that any worker can go on."""

from __future__ import annotations

import base64
import binascii
import hashlib
import hmac
import json
from collections.abc import Mapping, Sequence
from typing import Any, Final

from ask_above.serve.asking import RequestError

_DEFAULT, _MOST = 100, 1000
SECRET_BYTES: Final = 32
_SIGNED: Final = 16
"""How many bytes of the signature a token holds."""


class Pages:
    """Makes and reads tokens with one secret."""

    def __init__(self, secret: bytes) -> None:
        self.secret = secret

    def page(self, data: Mapping[str, Any], search: str, results: Sequence[Mapping[str, str]]) -> dict[str, Any]:
        """Return the page that a request asks for, of results that are in the order of their ids.

        A token tells the last id that was given, not a number: whoever holds throughout is met once, whoever comes or
        goes meanwhile shifts nobody.
        """
        asked = data.get("page")
        if asked is None:
            asked = {}
        if not isinstance(asked, dict):
            raise RequestError("'page' must be an object.")
        limit, token = asked.get("limit", _DEFAULT), asked.get("token")
        if type(limit) is not int or not 1 <= limit <= _MOST:
            raise RequestError(f"'page.limit' must be a whole number from 1 to {_MOST}.")
        bound = _digest(search, {key: value for key, value in data.items() if key != "page"})
        after = self._after(token, bound) if token not in (None, "") else ""
        rest = [result for result in results if _id(result) > after] if after else results
        given = rest[:limit]
        ends = len(rest) <= limit
        page = {"next_token": "" if ends else self._token(_id(given[-1]), bound), "count": len(given)}
        return {"results": list(given), "page": {**page, "total": len(results)}}

    def _token(self, last: str, bound: str) -> str:
        said = json.dumps([last, bound], separators=(",", ":")).encode()
        return base64.urlsafe_b64encode(self._sign(said) + said).decode().rstrip("=")

    def _after(self, token: object, bound: str) -> str:
        wrong = RequestError("'page.token' is none of ours, or belongs to another question.")
        if not isinstance(token, str):
            raise wrong
        try:
            raw = base64.urlsafe_b64decode(token + "=" * (-len(token) % 4))
        except (binascii.Error, ValueError):
            raise wrong from None
        signature, said = raw[:_SIGNED], raw[_SIGNED:]
        if not hmac.compare_digest(signature, self._sign(said)):
            raise wrong
        last, theirs = json.loads(said)
        if theirs != bound:
            raise wrong
        return str(last)

    def _sign(self, said: bytes) -> bytes:
        return hmac.new(self.secret, said, hashlib.sha256).digest()[:_SIGNED]


def _id(result: Mapping[str, str]) -> str:
    return result["id"] if "id" in result else result["name"]


def _digest(search: str, data: Mapping[str, Any]) -> str:
    """Return what a token is bound to: the search and all that was asked but the page and an id searched for."""
    asked = {key: value for key, value in data.items() if key in ("subject", "action", "resource", "context")}
    if isinstance(asked.get(search), dict):
        asked[search] = {key: value for key, value in asked[search].items() if key != "id"}
    said = json.dumps([search, asked], sort_keys=True, separators=(",", ":"))
    return hashlib.sha256(said.encode()).hexdigest()[:24]
