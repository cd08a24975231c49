"""Routers, one for each station and page."""
