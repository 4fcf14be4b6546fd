"""What all apps of the desk share: sealing, problems, roles, versions, pages."""
