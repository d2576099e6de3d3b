"""Alembic's entry: migrations run on the connection that the store hands over."""

from alembic import context

from greyheron.store.tables import Base

connection = context.config.attributes["connection"]
context.configure(connection=connection, target_metadata=Base.metadata, render_as_batch=True)
context.run_migrations()
