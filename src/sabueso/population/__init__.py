"""Tables with roles and the engine they run on. Exact money lives here."""
