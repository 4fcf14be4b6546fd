"""Addresses: the API, the event streams, the way back from a provider, and the one page of the front end."""
urlpatterns = []
