"""One folder for each file format; :mod:`fairswap.files` holds the table of suffixes."""
