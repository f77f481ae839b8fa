"""Tanner in the browser: pages, their API, pictures that are looked at, and the server."""

import warnings

from pydantic import BaseModel
from pydantic.warnings import UnsupportedFieldAttributeWarning

# What checks a request is made when the first one of its kind comes, not for two hundred kinds before the first page: a quarter
# of the start. Said for all models of the process, FastAPI's own among them, so before anything imports FastAPI.
BaseModel.model_config["defer_build"] = True
# FastAPI keeps this one to itself while it makes them; made later, they would tell it to whoever started Tanner.
warnings.filterwarnings("ignore", category=UnsupportedFieldAttributeWarning)
