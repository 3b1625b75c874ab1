"""What people type first, and what they mean: the right sentence for a command that there is not.

One table; a test goes through it, so that each sentence begins with a command that is there.
"""

from __future__ import annotations

from typing import Final

_ASSIGN, _UNASSIGN = "assign RANK MEMBER", "unassign RANK MEMBER"
_LOCK, _RESTORE = "member lock MEMBER", "member restore MEMBER"
_RETIRE, _HAND_OVER = "member retire MEMBER", "member hand-over MEMBER"
_CHECK, _LADDER, _JOURNAL, _NEW = "check", "ladder", "journal", "new DIR"
_MAY, _PEOPLE, _PLACES = "may WHO WHAT in PLACE", "member list", "place list"
_SAY = "place override PLACE RANK --allow CAPABILITY"

MEANT: Final = {
    **dict.fromkeys(("give", "promote", "appoint", "add-role", "add-rank"), _ASSIGN),
    **dict.fromkeys(("revoke", "demote", "dismiss", "take", "remove-role", "remove-rank"), _UNASSIGN),
    **dict.fromkeys(("ban", "block", "suspend", "lock", "disable", "kick"), _LOCK),
    **dict.fromkeys(("unban", "unblock", "unlock", "enable", "restore", "reinstate"), _RESTORE),
    **dict.fromkeys(("retire", "leave", "offboard", "resign"), _RETIRE),
    **dict.fromkeys(("hand-over", "handover", "transfer", "owner", "chown"), _HAND_OVER),
    **dict.fromkeys(("vouch", "approve", "confirm"), "member vouch MEMBER"),
    **dict.fromkeys(("invite", "add-user", "add-member", "adduser", "register"), "member invite KEY --email ADDRESS"),
    **dict.fromkeys(("forget", "erase", "anonymize"), "member forget MEMBER"),
    **dict.fromkeys(("members", "users", "people", "user", "persons"), _PEOPLE),
    **dict.fromkeys(("ranks", "roles", "role", "levels", "hierarchy"), _LADDER),
    **dict.fromkeys(("places", "channels", "channel", "boards", "sections", "tree"), _PLACES),
    **dict.fromkeys(("groups", "teams", "team"), "group list"),
    **dict.fromkeys(("can", "ask", "allowed", "has", "why", "explain"), _MAY),
    **dict.fromkeys(("permissions", "rights", "capabilities", "matrix", "table"), "grid"),
    **dict.fromkeys(("validate", "lint", "verify", "test", "doctor"), _CHECK),
    **dict.fromkeys(("history", "log", "changes", "events"), _JOURNAL),
    **dict.fromkeys(("diff", "effect", "what-if", "preview"), "impact OLD"),
    **dict.fromkeys(("rollback", "revert", "back"), "undo"),
    **dict.fromkeys(("create", "init", "start", "setup", "begin", "make"), _NEW),
    **dict.fromkeys(("show", "info", "whois", "inspect", "details"), "describe NAME"),
    **dict.fromkeys(("allow", "override"), _SAY),
    **dict.fromkeys(("deny", "forbid"), "place override PLACE RANK --deny CAPABILITY"),
    **dict.fromkeys(("except", "exception"), "place except PLACE MEMBER --allow CAPABILITY"),
    **dict.fromkeys(("gate", "close", "private"), "place gate PLACE --any GROUP"),
    "grant": "rank grant RANK CAPABILITY",
    "withhold": "rank withhold RANK CAPABILITY",
    "withdraw": "rank withdraw CAPABILITY",
    "add": "rank add KEY, place add KEY KIND, group add KEY or member add KEY",
    "remove": "rank remove RANK, place remove PLACE, group remove GROUP or member retire MEMBER",
    "delete": "rank remove RANK, place remove PLACE, group remove GROUP or member retire MEMBER",
    "rename": "rank rename RANK TITLE, place rename PLACE TITLE or group rename GROUP TITLE",
    "move": "rank move RANK --above RANK or place move PLACE --into PLACE",
    "edit": "charter set PATH VALUE",
    "set": "charter set PATH VALUE",
    "get": "charter get PATH",
    "rules": "charter get rules",
    **dict.fromkeys(("capability", "permission", "right"), "charter set capabilities.HEADING.KEY SENTENCE"),
    "expect": "charter add expectations SENTENCE",
    "expectations": "charter get expectations",
    "list": "member list, ladder, place list or group list",
    "help": "--help",
    "version": "--version",
    "put": "member put MEMBER GROUP",
    "join": "assign RANK MEMBER --as MEMBER",
    "html": "report FILE.html",
    "sheet": "grid --sheet FILE.xlsx",
}
"""For each word the sentence to say, without ``ask-above`` before it."""

UNDER: Final = {
    "member": {
        "delete": "retire",
        "remove": "retire",
        "ban": "lock",
        "unlock": "restore",
        "handover": "hand-over",
        "approve": "vouch",
        "rename": "set",
        "new": "add",
        "create": "add",
        "edit": "set",
    },
    "rank": {
        "delete": "remove",
        "new": "add",
        "create": "add",
        "edit": "set",
        "revoke": "withdraw",
        "allow": "grant",
        "deny": "withhold",
        "give": "grant",
        "list": "ladder",
    },
    "place": {
        "delete": "remove",
        "new": "add",
        "create": "add",
        "allow": "override",
        "deny": "override",
        "edit": "set",
        "exception": "except",
        "private": "gate",
    },
    "group": {"delete": "remove", "new": "add", "create": "add", "edit": "set", "put": "member put", "show": "list"},
    "charter": {"show": "get", "edit": "set", "append": "add", "delete": "remove"},
}
"""The same for the commands of a group."""


def sentence(group: str, word: str) -> str | None:
    """Return the sentence that is meant by a word, below a group or by itself; ``None`` where nobody knows."""
    if not group:
        return MEANT.get(word.lower())
    said = UNDER.get(group, {}).get(word.lower())
    if said is None:
        return None
    return said if " " in said or said == "ladder" else f"{group} {said}"
