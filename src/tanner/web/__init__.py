"""Tanner in the browser: pages, their API, pictures that are looked at, and the server."""

from pydantic import BaseModel

# What checks a request is made when the first one of its kind comes, not for two hundred kinds before the first page: a quarter
# of the start. Said for all models of the process, FastAPI's own among them, so before anything imports FastAPI.
BaseModel.model_config["defer_build"] = True
