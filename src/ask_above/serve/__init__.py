"""What other programs ask over HTTP: the AuthZEN decision protocol, and a client for it.

``application`` is an ASGI application, to be mounted in another or run by ``ask-above serve``; ``Client`` has a
community's questions and puts them to such a service. Needs the extra ``serve``.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from ask_above.lazily import lazily

if TYPE_CHECKING:
    from ask_above.serve.client import Client, ServiceError
    from ask_above.serve.service import application

__all__ = ["Client", "ServiceError", "application"]

if not TYPE_CHECKING:
    __getattr__ = lazily(__name__, {"client": ("Client", "ServiceError"), "service": ("application",)})
