"""A campaign on many machines: placed by Dask's distributed scheduler, recorded in a database."""
