"""R, Ld, Lq, flux, inertia, friction and resonance: experiments and estimators."""
