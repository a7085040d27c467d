"""How a panel gives light: by its brightness, behind diffusers, at one exposure for several filters."""
