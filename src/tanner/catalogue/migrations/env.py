"""Alembic's entry: runs the migrations on the connection that the catalogue hands over."""

from alembic import context

from tanner.catalogue.models import Base

connection = context.config.attributes["connection"]
context.configure(connection=connection, target_metadata=Base.metadata, render_as_batch=True)
with context.begin_transaction():
    context.run_migrations()
