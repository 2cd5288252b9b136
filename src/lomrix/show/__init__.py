"""Accounts and tables for people and for scripts."""
