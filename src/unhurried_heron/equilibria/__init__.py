"""Where all rates vanish: equilibria, their kinds, and marching to rest."""
