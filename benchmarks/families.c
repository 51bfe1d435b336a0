/* The rates of a diffusion-reaction column, as one would write them by hand. */
int rates(double t, const double *restrict u, double *restrict out, const double *restrict p, long n)
{
    const double k = p[0], dx = p[1], demand = p[2], half = p[3], top = p[4];
    (void)t;
    out[0] = k*(top - 2*u[0] + u[1])/(dx*dx) - demand*u[0]/(half + u[0]);
    for (long i = 1; i < n - 1; i++)
        out[i] = k*(u[i-1] - 2*u[i] + u[i+1])/(dx*dx) - demand*u[i]/(half + u[i]);
    out[n-1] = k*(u[n-2] - 2*u[n-1] + u[n-1])/(dx*dx) - demand*u[n-1]/(half + u[n-1]);
    return 1;
}
