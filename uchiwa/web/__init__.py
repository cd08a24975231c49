"""The web application: one router and one set of templates for each station."""
