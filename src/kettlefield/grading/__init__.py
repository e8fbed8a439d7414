"""An answer in, check results and an outcome out."""
