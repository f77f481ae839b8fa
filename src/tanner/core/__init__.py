"""Pure computation: no web, no database, no global state. Start reading at `render.py`."""
