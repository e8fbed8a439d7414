"""What Alembic runs: migrations on the connection that the store hands over, in the transaction that it has begun."""

from alembic import context

context.configure(connection=context.config.attributes["connection"])
context.run_migrations()
