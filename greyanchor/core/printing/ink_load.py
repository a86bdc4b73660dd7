"""How much liquid ink a print takes."""

#: liquid ink of one channel at a raw 100 %, ml/m2: a usual figure for aqueous and UV inkjet
LOAD_AT_FULL = 9.0
