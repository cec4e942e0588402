"""Trust the currents and the angle: experiments and estimators of the sensors."""
