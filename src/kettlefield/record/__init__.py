"""The record of a campaign: schema and store."""
