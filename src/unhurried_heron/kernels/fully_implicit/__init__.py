"""The family of fully implicit Runge-Kutta methods: all stages of a step are solved together."""
