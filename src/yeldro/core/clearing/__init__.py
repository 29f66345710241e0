"""Rows that stay, and lose what some of their columns hold."""
