"""Stand-ins that ship with the product: hosts that speak SSH, guests that open real sockets. They
keep state and can be told to misbehave.
"""
