"""The page: figures and motions that play in a browser, in one file that needs no network."""
