"""Tables of databases as sources and sinks: one module for each kind of server."""
