"""Pydantic models of what the API takes and gives, a module for each resource; a request ends in Request, an answer in Answer."""
