"""One folder for each file format; :mod:`fairswap.formats.files` holds the table of suffixes."""
