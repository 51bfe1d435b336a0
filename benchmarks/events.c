/* Bouncing and hourly rain by hand: the Dormand-Prince 5(4) pair with its continuous extension, a starting step by two
   evaluations beyond each jump or knot, zeros by false position (Illinois). Rates are written into the loop. */
#include <math.h>

#define N 2

typedef struct { const double *times, *values; long row; double g; int n; } model_t;

static inline void rates(const model_t *m, double t, const double *y, double *out)
{
    if (m->times) {
        const double *x = m->times + m->row, *v = m->values + m->row;
        double rain = v[0] + (t - x[0]) * (v[1] - v[0]) / (x[1] - x[0]);
        out[0] = (rain * 10.0 - 5.0 * y[0]) / 1800.0;
    } else {
        out[0] = y[1];
        out[1] = -m->g;
    }
}

static double norm(const model_t *m, const double *v, const double *y, double tol)
{
    double sum = 0.0;
    for (int i = 0; i < m->n; i++) { double q = v[i] / (tol + tol * fabs(y[i])); sum += q * q; }
    return sqrt(sum / m->n);
}

/* a first step whose error is about a hundredth of the tolerance */
static double starting_step(const model_t *m, double t, const double *y, const double *k, double left, double tol)
{
    double w[N], f[N], size = norm(m, y, y, tol), speed = norm(m, k, y, tol);
    double h = size > 1e-5 && speed > 0.0 ? fmin(left, 0.01 * size / speed) : 1e-6 * left;
    for (int i = 0; i < m->n; i++) w[i] = y[i] + h * k[i];
    rates(m, t + h, w, f);
    for (int i = 0; i < m->n; i++) f[i] = (f[i] - k[i]) / h;
    double bend = norm(m, f, y, tol), rate = speed > 0.0 ? bend / speed : 0.0, best = 100.0 * h;
    if (rate > 0.0) best = pow(0.01 * rate / speed, 0.2) / rate;
    return fmin(fmin(100.0 * h, best), left);
}

/* Marches to the end; returns how many crossings (of y[0] through zero downwards) or knots it met. */
long march(const double *times, const double *values, long knots, int n, double *y, double end, double tol,
           double restitution, const double *interpolant, double *crossed)
{
    model_t m = {times, values, 0, 9.81, n};
    double k[7][N], w[N], t = 0.0, h = 0.0;
    long met = 0;
    rates(&m, t, y, k[0]);
    h = starting_step(&m, t, y, k[0], times ? times[1] : end, tol);
    while (t < end) {
        double stop = times ? times[m.row + 1] : end;
        int last = h * 1.0000001 >= stop - t;
        if (last) h = stop - t;
        static const double a[7][6] = {
            {0}, {1.0 / 5}, {3.0 / 40, 9.0 / 40}, {44.0 / 45, -56.0 / 15, 32.0 / 9},
            {19372.0 / 6561, -25360.0 / 2187, 64448.0 / 6561, -212.0 / 729},
            {9017.0 / 3168, -355.0 / 33, 46732.0 / 5247, 49.0 / 176, -5103.0 / 18656},
            {35.0 / 384, 0, 500.0 / 1113, 125.0 / 192, -2187.0 / 6784, 11.0 / 84}};
        static const double c[7] = {0, 0.2, 0.3, 0.8, 8.0 / 9, 1, 1};
        static const double e[7] = {35.0 / 384 - 5179.0 / 57600, 0, 500.0 / 1113 - 7571.0 / 16695,
                                    125.0 / 192 - 393.0 / 640, -2187.0 / 6784 + 92097.0 / 339200,
                                    11.0 / 84 - 187.0 / 2100, -1.0 / 40};
        for (int s = 1; s < 7; s++) {
            for (int i = 0; i < n; i++) {
                double sum = 0.0;
                for (int j = 0; j < s; j++) sum += a[s][j] * k[j][i];
                w[i] = y[i] + h * sum;
            }
            rates(&m, t + c[s] * h, w, k[s]);
        }
        double error[N];
        for (int i = 0; i < n; i++) {
            error[i] = 0.0;
            for (int s = 0; s < 7; s++) error[i] += h * e[s] * k[s][i];
        }
        double size = norm(&m, error, w, tol);
        double factor = fmin(5.0, fmax(0.2, 0.9 * pow(fmax(size, 1e-10), -0.2)));
        if (size > 1.0) { h *= factor; continue; }
        if (!times && y[0] > 0.0 && w[0] <= 0.0) {
            double low = 0.0, high = 1.0, f_low = y[0], f_high = w[0], theta = 1.0, at[N];
            int side = 0;
            for (int turn = 0; turn < 100 && high - low > 4e-16; turn++) {
                theta = turn % 4 == 3 ? 0.5 * (low + high) : (low * f_high - high * f_low) / (f_high - f_low);
                for (int i = 0; i < n; i++) {
                    double sum = 0.0;
                    for (int s = 0; s < 7; s++) {
                        const double *b = interpolant + s;
                        sum += k[s][i] * theta * (b[0] + theta * (b[7] + theta * (b[14] + theta * b[21])));
                    }
                    at[i] = y[i] + h * sum;
                }
                if (at[0] > 0.0) { low = theta; f_low = at[0]; if (side == -1) f_high *= 0.5; side = -1; }
                else { high = theta; f_high = at[0]; if (side == 1) f_low *= 0.5; side = 1; }
            }
            t += theta * h;
            crossed[met++ & 1023] = t;
            y[0] = 0.0; y[1] = -restitution * at[1];
            rates(&m, t, y, k[0]);
            h = starting_step(&m, t, y, k[0], end - t, tol);
            continue;
        }
        t = last ? stop : t + h;
        for (int i = 0; i < n; i++) { y[i] = w[i]; k[0][i] = k[6][i]; }
        h *= factor;
        if (times && last) {
            if (++m.row >= knots) break;
            met++;
            rates(&m, t, y, k[0]);
            h = starting_step(&m, t, y, k[0], times[m.row + 1] - t, tol);
        }
    }
    return met;
}
