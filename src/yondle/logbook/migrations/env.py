"""Alembic's entry: runs the migrations on the connection it is handed."""

from alembic import context

context.configure(connection=context.config.attributes["connection"], transactional_ddl=True)
with context.begin_transaction():
    context.run_migrations()
