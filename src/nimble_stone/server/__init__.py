"""The HTTP face: thin routers that parse, call and answer."""
