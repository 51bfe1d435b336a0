"""How kernels reach memory: addresses, records, pointers."""
