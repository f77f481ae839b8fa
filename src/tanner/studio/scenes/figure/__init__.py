"""A person for a portrait, from the CC0 base mesh: skin to the scale of pores, eyes, lashes and brows, knitted wool.

mesh closes the lips and subdivides; noise and skin say what every point looks like; eyes, strands and knit build what
is not skin; person puts one together; passes renders it; sitting says who sits how, and writes the pictures.
"""
