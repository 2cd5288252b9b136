"""The commands: arguments in, a step out, nothing computed."""
