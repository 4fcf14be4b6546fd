"""Cargo manifests: an outside application that keeps its own client registrations."""
