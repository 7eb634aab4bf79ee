"""The service: the FastAPI app, the prediction path, sign-in, routes, records."""
