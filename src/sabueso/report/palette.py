"""One palette for terminal, figures and papers, safe for colour-blind eyes."""

INK = "#16324F"
SEA = "#1B7F79"
SAND = "#E8DCC4"
AMBER = "#D98E04"
PLUM = "#7A2E5D"
STONE = "#8A94A0"
