"""The demo study of the Kittiwake Line, made by a seeded script."""
