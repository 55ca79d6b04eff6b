"""Runs the migrations on the connection that `store.database.migrate` hands in."""

from alembic import context

from mill_lane.store.models import Base

connection = context.config.attributes["connection"]
context.configure(
    connection=connection,
    target_metadata=Base.metadata,
    render_as_batch=True,
    # The caller's transaction holds all of it.
    transactional_ddl=True,
)
with context.begin_transaction():
    context.run_migrations()
