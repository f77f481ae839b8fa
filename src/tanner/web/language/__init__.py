"""The words of the screens in other languages: one catalogue of all texts, and what puts another language's in."""
