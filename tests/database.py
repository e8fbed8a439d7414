"""A PostgreSQL cluster of the tests' own: on a socket in a temporary folder, gone when they end."""

import time

import psycopg

from kettlefield.demo.private_database import SUPERUSER, PrivateDatabase


def wait_for(condition, within_s=240):
    """Until something is so; a busy machine takes its time."""
    until = time.monotonic() + within_s
    while not condition():
        assert time.monotonic() < until, "it never came"
        time.sleep(0.03)


class Cluster(PrivateDatabase):
    """With users besides its superuser, who needs no password; one of them does."""

    def __init__(self, *, durable=False):
        super().__init__(durable=durable)
        self.sql("CREATE ROLE mate LOGIN PASSWORD 'low water'", "CREATE ROLE reader LOGIN")
        hba = self.data / "pg_hba.conf"
        hba.write_text("local all mate scram-sha-256\nlocal all all trust\n")
        self.sql("SELECT pg_reload_conf()")

    def sql(self, *statements, database="postgres"):
        with psycopg.connect(host=str(self.folder), user=SUPERUSER, dbname=database, autocommit=True) as connection:
            for statement in statements:
                cursor = connection.execute(statement)
            return cursor.fetchall() if cursor.description else None

    def database(self, name):
        """A new, empty database; its URL."""
        self.sql(f'CREATE DATABASE "{name}"')
        return self.url(name)
