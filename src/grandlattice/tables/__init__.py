"""Lists that several rooms need, each kept once.  It imports nothing of ours; every room may import it."""
