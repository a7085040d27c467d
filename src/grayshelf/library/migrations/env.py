"""Runs migrations on the connection it is handed."""

from alembic import context

from grayshelf.library.models import Base

connection = context.config.attributes["connection"]
context.configure(connection=connection, target_metadata=Base.metadata, render_as_batch=True)
with context.begin_transaction():
    context.run_migrations()
