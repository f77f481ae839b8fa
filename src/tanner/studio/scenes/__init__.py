"""Scenes of the made-up workshop, built and rendered by us with mitsuba's spectral path tracer.

Nothing here is needed to run Tanner: the results ship in studio/pictures. `make scenes` renders them again.
"""
