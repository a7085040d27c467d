"""Runs migrations on the connection it is handed, inside the transaction that its caller has begun."""

from alembic import context

from grayshelf.library.models import Base

connection = context.config.attributes["connection"]
# SQLite can undo DDL; Alembic takes it that it cannot, and the caller sees to it that the driver lets it.
context.configure(
    connection=connection, target_metadata=Base.metadata, render_as_batch=True, transactional_ddl=True
)
with context.begin_transaction():
    context.run_migrations()
