/* The lowest members of three families by hand, at fixed steps, nothing kept: Euler's method, Adams and Bashforth of
   order 2 started by Heun's, and backward Euler by simplified Newton with one matrix factored once. */
#include <math.h>
#include <stdint.h>

#define NM 32
typedef int32_t (*fun_t)(double t, const double *y, double *out, const double *p);

void euler(fun_t f, const double *p, int n, double *y, double t, double h, long steps)
{
    double k[NM];
    double begin = t;
    for (long i = 0; i < steps; i++) {
        if (f(begin + i * h, y, k, p) != 1) return;
        int fine = 1;
        for (int j = 0; j < n; j++) { y[j] += h * k[j]; fine &= fabs(y[j]) < INFINITY; }
        if (!fine) return;
    }
}

void adams_bashforth_2(fun_t f, const double *p, int n, double *y, double t, double h, long steps)
{
    double a[NM], b[NM], u[NM];
    double *now = a, *before = b;
    double begin = t;
    f(t, y, now, p);
    for (long i = 0; i < steps; i++) {
        if (i == 0) {
            for (int j = 0; j < n; j++) u[j] = y[j] + h * now[j];
            f(t + h, u, before, p);
            for (int j = 0; j < n; j++) y[j] += 0.5 * h * (now[j] + before[j]);
        } else {
            for (int j = 0; j < n; j++) y[j] += h * (1.5 * now[j] - 0.5 * before[j]);
        }
        int fine = 1;
        for (int j = 0; j < n; j++) fine &= fabs(y[j]) < INFINITY;
        if (!fine) return;
        double *old = before; before = now; now = old;
        if (f(begin + (i + 1) * h, y, now, p) != 1) return;
    }
}

/* Returns the number of iterations. */
long backward_euler(fun_t f, const double *p, fun_t jac, const double *jp, int n, double *y, double t, double h,
                    long steps, double tolerance)
{
    static double m[NM * NM];
    int piv[NM];
    double k[NM], z[NM], s[NM], u[NM], shift = 1 / h;
    double begin = t;
    long total = 0;
    jac(t, y, m, jp);
    for (int i = 0; i < n * n; i++) m[i] = -m[i];
    for (int i = 0; i < n; i++) m[i * n + i] += shift;
    for (int c = 0; c < n; c++) {
        int best = c;
        for (int i = c + 1; i < n; i++) if (fabs(m[i * n + c]) > fabs(m[best * n + c])) best = i;
        piv[c] = best;
        if (best != c) for (int j = 0; j < n; j++) { double x = m[c * n + j]; m[c * n + j] = m[best * n + j]; m[best * n + j] = x; }
        for (int i = c + 1; i < n; i++) {
            double l = m[i * n + c] /= m[c * n + c];
            if (l != 0) for (int j = c + 1; j < n; j++) m[i * n + j] -= l * m[c * n + j];
        }
    }
    for (int j = 0; j < n; j++) z[j] = 0;
    for (long i = 0; i < steps; i++) {
        double before = 1;
        for (int j = 0; j < n; j++) s[j] = tolerance * (1e-3 + fabs(y[j]));
        for (int count = 1; count < 50; count++) {
            for (int j = 0; j < n; j++) u[j] = y[j] + z[j];
            if (f(begin + (i + 1) * h, u, k, p) != 1) return -1;
            for (int j = 0; j < n; j++) k[j] -= shift * z[j];
            for (int c = 0; c < n; c++) if (piv[c] != c) { double x = k[c]; k[c] = k[piv[c]]; k[piv[c]] = x; }
            for (int r = 0; r < n; r++) for (int c = 0; c < r; c++) k[r] -= m[r * n + c] * k[c];
            for (int r = n - 1; r >= 0; r--) {
                for (int c = r + 1; c < n; c++) k[r] -= m[r * n + c] * k[c];
                k[r] /= m[r * n + r];
            }
            double size = 0;
            for (int j = 0; j < n; j++) { double x = k[j] / s[j]; size += x * x; z[j] += k[j]; }
            size = sqrt(size / n);
            total++;
            double theta = size / before;
            before = size;
            if (count > 1 && (theta < 1 ? theta / (1 - theta) * size : size) <= 1) break;
        }
        for (int j = 0; j < n; j++) y[j] += z[j];
    }
    return total;
}
