"""The Lantern Street Troupe: a small night-market pantomime company, its figures, its acts, and the full example.

Everything here is made by our own code. The figures are sculpted once (``make troupe``) and shipped; acts are computed.
"""
