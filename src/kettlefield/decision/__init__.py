"""Criteria against a record: measures, verdict, provenance, the ledger of signatures."""
