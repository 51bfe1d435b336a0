/* The Dormand-Prince 5(4) pair by hand: formulas written out stage by stage, the same controller, the same
   continuous extension as the library's kernel. Rates are reached through a function pointer. */
#include <math.h>
#include <stdint.h>

typedef int32_t (*rates_t)(double t, const double *y, double *out, const double *p);

#define N_MAX 64

/* keep: 0 nothing, 1 the polynomial of every step (starts, steps and 5 n coefficients a step) and one ledger row an
   attempt, in buffers of `room` steps used round and round. Returns accepted + refused. */
long march_pair(rates_t f, const double *p, int n, double *y, double t, double end, double h, double rtol, double atol,
                int keep, long room, double *starts, double *steps, double *coefficients, double *ledger,
                const double *interpolant)
{
    static double k1[N_MAX], k2[N_MAX], k3[N_MAX], k4[N_MAX], k5[N_MAX], k6[N_MAX], k7[N_MAX], w[N_MAX];
    long attempts = 0, kept = 0, rows = 0;
    double memory = 0.0;
    int refused = 0;
    f(t, y, k1, p);
    while (t < end) {
        int last = 0;
        if (h * 1.0000001 >= end - t) { h = end - t; last = 1; }
        attempts++;
        for (int i = 0; i < n; i++) w[i] = y[i] + h * (1.0 / 5 * k1[i]);
        f(t + 1.0 / 5 * h, w, k2, p);
        for (int i = 0; i < n; i++) w[i] = y[i] + h * (3.0 / 40 * k1[i] + 9.0 / 40 * k2[i]);
        f(t + 3.0 / 10 * h, w, k3, p);
        for (int i = 0; i < n; i++) w[i] = y[i] + h * (44.0 / 45 * k1[i] - 56.0 / 15 * k2[i] + 32.0 / 9 * k3[i]);
        f(t + 4.0 / 5 * h, w, k4, p);
        for (int i = 0; i < n; i++)
            w[i] = y[i] + h * (19372.0 / 6561 * k1[i] - 25360.0 / 2187 * k2[i] + 64448.0 / 6561 * k3[i]
                               - 212.0 / 729 * k4[i]);
        f(t + 8.0 / 9 * h, w, k5, p);
        for (int i = 0; i < n; i++)
            w[i] = y[i] + h * (9017.0 / 3168 * k1[i] - 355.0 / 33 * k2[i] + 46732.0 / 5247 * k3[i]
                               + 49.0 / 176 * k4[i] - 5103.0 / 18656 * k5[i]);
        f(t + h, w, k6, p);
        for (int i = 0; i < n; i++)
            w[i] = y[i] + h * (35.0 / 384 * k1[i] + 500.0 / 1113 * k3[i] + 125.0 / 192 * k4[i]
                               - 2187.0 / 6784 * k5[i] + 11.0 / 84 * k6[i]);
        f(t + h, w, k7, p);
        double sum = 0.0;
        for (int i = 0; i < n; i++) {
            double e = h * ((35.0 / 384 - 5179.0 / 57600) * k1[i] + (500.0 / 1113 - 7571.0 / 16695) * k3[i]
                            + (125.0 / 192 - 393.0 / 640) * k4[i] + (-2187.0 / 6784 + 92097.0 / 339200) * k5[i]
                            + (11.0 / 84 - 187.0 / 2100) * k6[i] - 1.0 / 40 * k7[i]);
            double q = e / (atol + rtol * fmax(fabs(y[i]), fabs(w[i])));
            sum += q * q;
        }
        sum /= n;
        if (keep) {
            double *row = ledger + 5 * (rows++ % (2 * room));
            row[0] = t; row[1] = h; row[2] = sqrt(sum); row[3] = sum <= 1.0; row[4] = 0.0;
        }
        if (sum <= 1.0) {
            if (keep) {
                long slot = kept++ % room;
                double *c = coefficients + slot * 5 * n;
                starts[slot] = t; steps[slot] = h;
                for (int i = 0; i < n; i++) c[i] = y[i];
                for (int d = 0; d < 4; d++) {
                    const double *b = interpolant + 7 * d;
                    for (int i = 0; i < n; i++)
                        c[(d + 1) * n + i] = h * (b[0] * k1[i] + b[2] * k3[i] + b[3] * k4[i] + b[4] * k5[i]
                                                  + b[5] * k6[i] + b[6] * k7[i]);
                }
            }
            t = last ? end : t + h;
            for (int i = 0; i < n; i++) { y[i] = w[i]; k1[i] = k7[i]; }
            double size = 0.5 * log(fmax(sum, 1e-20));
            double factor = 0.9 * exp((0.4 * memory - 0.7 * size) / 5);
            factor = fmin(5.0, fmax(0.2, factor));
            if (refused) factor = fmin(factor, 1.0);
            memory = fmax(size, -9.2);
            refused = 0;
            h *= factor;
        } else {
            refused = 1;
            h *= sum < 1e300 ? fmax(0.2, 0.9 * pow(sum, -0.1)) : 0.1;
            if (h < 1e-15 * fabs(t)) return -1;
        }
    }
    return attempts;
}

/* The same for members, of which each has another value of one parameter: their end states and their attempts. */
void march_members(rates_t f, double *p, int which, const double *values, long members, int n, const double *start,
                   double t, double end, double h, double rtol, double atol, double *finals, int64_t *attempts)
{
    for (long k = 0; k < members; k++) {
        p[which] = values[k];
        for (int i = 0; i < n; i++) finals[k * n + i] = start[i];
        attempts[k] = march_pair(f, p, n, finals + k * n, t, end, h, rtol, atol, 0, 0, 0, 0, 0, 0, 0);
    }
}
