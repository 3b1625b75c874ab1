"""What Alembic runs: on the connection that is handed to it."""

from __future__ import annotations

from alembic import context

context.configure(connection=context.config.attributes["connection"], transactional_ddl=True)
context.run_migrations()
