"""The passenger manifests."""
