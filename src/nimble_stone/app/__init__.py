"""Use cases: what the server and the command line call alike. No framework, no SQL, no sockets."""
