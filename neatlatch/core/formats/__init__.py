"""What goes out in a form that others read: OpenAPI, settings files with references, tables."""
