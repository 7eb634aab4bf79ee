"""Pydantic models of API requests and answers, a module for each resource. Names of requests end in Request, names of answers in Answer."""
