"""The client library: `Client` and `AsyncClient`, alike but for ``await``."""

from lamppost.client.clients import AsyncClient, Client
from lamppost.client.values import Prediction

__all__ = ["AsyncClient", "Client", "Prediction"]
