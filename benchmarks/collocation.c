/* Three-stage Radau IIA of order 5 by hand: simplified Newton with one real and one complex LU factorisation written as
   loops, the same tolerances, reuse rules and step control as the library's kernel. Source: Hairer and Wanner, Solving
   Ordinary Differential Equations II, section IV.8. Constants arrive in one array, as the library computes them. */
#include <math.h>
#include <stdint.h>
#include <string.h>

#define NM 32
#define KMAX 10
typedef int32_t (*fun_t)(double t, const double *y, double *out, const double *p);

static int lu_real(int n, double *restrict a, int *piv)
{
    for (int k = 0; k < n; k++) {
        int m = k;
        double big = fabs(a[k * n + k]);
        for (int i = k + 1; i < n; i++)
            if (fabs(a[i * n + k]) > big) { big = fabs(a[i * n + k]); m = i; }
        piv[k] = m;
        if (!(big > 0 && big < INFINITY)) return 0;
        if (m != k) for (int j = 0; j < n; j++) { double x = a[k * n + j]; a[k * n + j] = a[m * n + j]; a[m * n + j] = x; }
        double r = 1 / a[k * n + k];
        for (int i = k + 1; i < n; i++) {
            double l = a[i * n + k];
            if (l != 0) {
                l *= r;
                a[i * n + k] = l;
                for (int j = k + 1; j < n; j++) a[i * n + j] -= l * a[k * n + j];
            }
        }
    }
    return 1;
}

static void solve_real(int n, const double *restrict a, const int *piv, double *restrict b)
{
    for (int k = 0; k < n; k++) { int m = piv[k]; if (m != k) { double x = b[k]; b[k] = b[m]; b[m] = x; } }
    for (int i = 0; i < n; i++) { double s = b[i]; for (int j = 0; j < i; j++) s -= a[i * n + j] * b[j]; b[i] = s; }
    for (int i = n - 1; i >= 0; i--) {
        double s = b[i];
        for (int j = i + 1; j < n; j++) s -= a[i * n + j] * b[j];
        b[i] = s / a[i * n + i];
    }
}

static int lu_complex(int n, double *restrict a, double *restrict c, int *piv)
{
    for (int k = 0; k < n; k++) {
        int m = k;
        double big = fabs(a[k * n + k]) + fabs(c[k * n + k]);
        for (int i = k + 1; i < n; i++) {
            double v = fabs(a[i * n + k]) + fabs(c[i * n + k]);
            if (v > big) { big = v; m = i; }
        }
        piv[k] = m;
        if (!(big > 0 && big < INFINITY)) return 0;
        if (m != k) for (int j = 0; j < n; j++) {
            double x = a[k * n + j]; a[k * n + j] = a[m * n + j]; a[m * n + j] = x;
            x = c[k * n + j]; c[k * n + j] = c[m * n + j]; c[m * n + j] = x;
        }
        double d = a[k * n + k] * a[k * n + k] + c[k * n + k] * c[k * n + k];
        double pr = a[k * n + k] / d, pi = -c[k * n + k] / d;
        for (int i = k + 1; i < n; i++) {
            double xr = a[i * n + k], xi = c[i * n + k];
            if (xr != 0 || xi != 0) {
                double lr = xr * pr - xi * pi, li = xr * pi + xi * pr;
                a[i * n + k] = lr; c[i * n + k] = li;
                for (int j = k + 1; j < n; j++) {
                    a[i * n + j] -= lr * a[k * n + j] - li * c[k * n + j];
                    c[i * n + j] -= lr * c[k * n + j] + li * a[k * n + j];
                }
            }
        }
    }
    return 1;
}

static void solve_complex(int n, const double *restrict a, const double *restrict c, const int *piv, double *restrict b,
                          double *restrict g)
{
    for (int k = 0; k < n; k++) {
        int m = piv[k];
        if (m != k) { double x = b[k]; b[k] = b[m]; b[m] = x; x = g[k]; g[k] = g[m]; g[m] = x; }
    }
    for (int i = 0; i < n; i++) {
        double s = b[i], q = g[i];
        for (int j = 0; j < i; j++) {
            s -= a[i * n + j] * b[j] - c[i * n + j] * g[j];
            q -= a[i * n + j] * g[j] + c[i * n + j] * b[j];
        }
        b[i] = s; g[i] = q;
    }
    for (int i = n - 1; i >= 0; i--) {
        double s = b[i], q = g[i];
        for (int j = i + 1; j < n; j++) {
            s -= a[i * n + j] * b[j] - c[i * n + j] * g[j];
            q -= a[i * n + j] * g[j] + c[i * n + j] * b[j];
        }
        double xr = a[i * n + i], xi = c[i * n + i], d = xr * xr + xi * xi;
        b[i] = (s * xr + q * xi) / d; g[i] = (q * xr - s * xi) / d;
    }
}

/* The defect of the step polynomial at a point, filtered by the real factor, and its size. */
static double defect(fun_t f, const double *p, int n, double t, double h, double theta, const double *out, const double *mr,
                     const int *p1, const double *sc, double *w, double *g, double *d)
{
    double s = 0;
    for (int k = 0; k < n; k++)
        w[k] = out[k] + theta * (out[n + k] + theta * (out[2 * n + k] + theta * (out[3 * n + k] + theta * out[4 * n + k])));
    f(t + theta * h, w, g, p);
    for (int k = 0; k < n; k++)
        d[k] = (out[n + k] + theta * (2 * out[2 * n + k] + theta * (3 * out[3 * n + k] + theta * 4 * out[4 * n + k]))) / h - g[k];
    solve_real(n, mr, p1, d);
    for (int k = 0; k < n; k++) { double q = d[k] / sc[k]; s += q * q; }
    return sqrt(s / n);
}

/* counts: accepted, refused, rate evaluations, Jacobians, factorisations, solves. Returns attempted steps. */
long march_collocation(fun_t f, const double *p, fun_t jac, const double *jp, int n, double *y, double t, double end,
                       double h, const double *relative, const double *absolute, const double *K, long room,
                       double *coefficients, long *counts)
{
    static double J[NM * NM], mr[NM * NM], cr[NM * NM], ci[NM * NM], f0[NM], sc[NM], w[NM], z[3][NM], v[3][NM], g[3][NM],
        P[3][NM], d1[NM], d2[NM];
    static int p1[NM], p2[NM];
    const double c1 = K[0], c2 = K[1], gam = K[2], alp = K[3], bet = K[4], *T = K + 5, *U = K + 14, *V = K + 23, *E = K + 41,
                 s1 = K[44], s2 = K[45], s3 = K[46], largest = K[47], kappa = K[48], allowed = K[49];
    const double eps = 2.220446049250313e-16;
    double contraction = 1, correction = 1, hold = 0, memory = 1, factored = 0;
    int fresh = 0, refused = 0;
    memset(counts, 0, 6 * sizeof(long));
    f(t, y, f0, p); counts[2]++;
    for (int k = 0; k < n; k++) sc[k] = absolute[k] + relative[k] * fabs(y[k]);
    while (t < end) {
        double finish = t + h, hh = finish - t;
        if (hh * 1.0000001 >= end - t) { hh = end - t; finish = end; }
        int ok = 1, it = 0;
        double theta = 0, shrink = 0.5;
        if (!fresh) { jac(t, y, J, jp); counts[3]++; fresh = 2; factored = 0; }
        if (!(fabs(factored - hh) <= 1e-3 * hh)) {
            double a = gam / hh, b = alp / hh, c = bet / hh;
            for (int i = 0; i < n * n; i++) { mr[i] = cr[i] = -J[i]; ci[i] = 0; }
            for (int i = 0; i < n; i++) { mr[i * n + i] += a; cr[i * n + i] += b; ci[i * n + i] = c; }
            counts[4]++;
            ok = lu_real(n, mr, p1) && lu_complex(n, cr, ci, p2);
            factored = ok ? hh : 0;
        }
        double r = hold == 0 ? 0 : hh / hold;
        if (ok) {
            double x1 = c1 * r, x2 = c2 * r;
            for (int k = 0; k < n; k++) {
                double q1 = P[0][k], q2 = P[1][k], q3 = P[2][k];
                if (hold == 0) q1 = q2 = q3 = 0;
                z[0][k] = x1 * (q1 + x1 * (q2 + x1 * q3));
                z[1][k] = x2 * (q1 + x2 * (q2 + x2 * q3));
                z[2][k] = r * (q1 + r * (q2 + r * q3));
                for (int i = 0; i < 3; i++) v[i][k] = U[3 * i] * z[0][k] + U[3 * i + 1] * z[1][k] + U[3 * i + 2] * z[2][k];
            }
            double rest = 1, before = 0, seen = 0, first = 0, a = gam / hh, b = alp / hh, c = bet / hh, missed = 0;
            ok = 0;
            for (int k = 0; k < n; k++) missed = fmax(missed, fabs(f0[k]) / sc[k]);
            missed /= a;
            for (it = 1; it <= KMAX; it++) {
                for (int i = 0; i < 3; i++) {
                    for (int k = 0; k < n; k++) w[k] = y[k] + z[i][k];
                    f(t + (i == 0 ? c1 : i == 1 ? c2 : 1) * hh, w, g[i], p);
                }
                counts[2] += 3;
                for (int k = 0; k < n; k++) {
                    double q1 = g[0][k], q2 = g[1][k], q3 = g[2][k];
                    g[0][k] = U[0] * q1 + U[1] * q2 + U[2] * q3 - a * v[0][k];
                    g[1][k] = U[3] * q1 + U[4] * q2 + U[5] * q3 - (b * v[1][k] - c * v[2][k]);
                    g[2][k] = U[6] * q1 + U[7] * q2 + U[8] * q3 - (c * v[1][k] + b * v[2][k]);
                }
                double miss = 0;
                for (int i = 0; i < 3; i++)
                    for (int k = 0; k < n; k++) miss = fmax(miss, fabs(g[i][k]) / sc[k]);
                miss /= a;
                solve_real(n, mr, p1, g[0]);
                solve_complex(n, cr, ci, p2, g[1], g[2]);
                counts[5]++;
                double s = 0;
                int rounding = 1;
                for (int k = 0; k < n; k++) {
                    double q = 1 / sc[k], x0 = g[0][k] * q, x1 = g[1][k] * q, x2 = g[2][k] * q, size = fabs(y[k]);
                    s += x0 * x0 + x1 * x1 + x2 * x2;
                    for (int i = 0; i < 3; i++)
                        rounding = rounding && fabs(g[i][k]) <= 8 * eps * size && fabs(z[i][k]) <= 4 * (size + fabs(hh * f0[k]));
                }
                s = sqrt(s / (3 * n));
                if (!(s < 1e300)) break;
                if (rounding) miss = 0;
                int met = miss <= 10 || (it > 1 && miss <= 0.1 * missed);
                if (it == 1) {
                    missed = fmin(missed, miss);
                    first = s;
                    rest = 30 * contraction * fmax(1, s / correction);
                } else {
                    theta = s / before;
                    if (theta >= 1) { ok = s <= kappa && met; shrink = fmax(0.1, fmin(0.5, 0.25 / theta)); seen = 0; break; }
                    rest = theta / (1 - theta);
                    if (it == 2) rest = fmax(rest, 0.3 * contraction);
                    if (rest * s * pow(theta, KMAX - it) > kappa) { shrink = fmax(0.1, fmin(0.5, 0.25 / theta)); break; }
                }
                seen = before > 10 * kappa ? theta : 0;
                before = fmax(s, 1e-300);
                for (int k = 0; k < n; k++) {
                    for (int i = 0; i < 3; i++) v[i][k] += g[i][k];
                    for (int i = 0; i < 3; i++) z[i][k] = T[3 * i] * v[0][k] + T[3 * i + 1] * v[1][k] + T[3 * i + 2] * v[2][k];
                }
                if (met && rest * s <= kappa) { contraction = fmax(rest, eps); correction = fmax(first, 1e-300); ok = 1; break; }
            }
            theta = seen;
        }
        if (!ok) { counts[1]++; refused = 1; h = hh * shrink; if (fresh == 1) fresh = 0; continue; }
        double e = 0;
        for (int k = 0; k < n; k++) { w[k] = (E[0] * z[0][k] + E[1] * z[1][k] + E[2] * z[2][k]) / hh; g[0][k] = w[k] + f0[k]; }
        solve_real(n, mr, p1, g[0]);
        counts[5]++;
        for (int k = 0; k < n; k++) { double q = g[0][k] / sc[k]; e += q * q; }
        e = sqrt(e / n);
        if (e >= 1 && (hold == 0 || refused)) {
            for (int k = 0; k < n; k++) g[1][k] = y[k] + g[0][k];
            f(t, g[1], g[2], p); counts[2]++;
            for (int k = 0; k < n; k++) g[0][k] = w[k] + g[2][k];
            solve_real(n, mr, p1, g[0]); counts[5]++;
            e = 0;
            for (int k = 0; k < n; k++) { double q = g[0][k] / sc[k]; e += q * q; }
            e = sqrt(e / n);
        }
        double *out = coefficients + (counts[0] % room) * 5 * n;
        for (int k = 0; k < n; k++) {
            double q = -gam / s3 * g[0][k];
            out[k] = y[k];
            out[n + k] = V[0] * z[0][k] + V[1] * z[1][k] + V[2] * z[2][k] - s3 * q;
            out[2 * n + k] = V[3] * z[0][k] + V[4] * z[1][k] + V[5] * z[2][k] + s2 / 2 * q;
            out[3 * n + k] = V[6] * z[0][k] + V[7] * z[1][k] + V[8] * z[2][k] - s1 / 3 * q;
            out[4 * n + k] = q / 4;
        }
        if (e < 1) {
            double between = INFINITY;
            if (hold != 0) {
                double x = 1 + r, pulled = x * (x * (x * (x - s1) + s2) - s3), s = 0;
                double free = x * (x * (x * (x / 4 - s1 / 3) + s2 / 2) - s3), power = r * r * r * r;
                for (int k = 0; k < n; k++) {
                    double foreseen = r * (P[0][k] + r * (P[1][k] + r * P[2][k]));
                    double q = ((z[2][k] - foreseen) * power + gam / s3 * g[0][k] * free) / pulled * largest / sc[k];
                    s += q * q;
                }
                between = sqrt(s / n);
            }
            if (!(between <= allowed)) {
                const double a = K[50], b = K[51], na = ((a - s1) * a + s2) * a - s3, nb = ((b - s1) * b + s2) * b - s3;
                between = defect(f, p, n, t, hh, a, out, mr, p1, sc, w, g[1], d1);
                between = fmax(between, defect(f, p, n, t, hh, b, out, mr, p1, sc, w, g[1], d2));
                counts[2] += 2; counts[5] += 2;
                for (int k = 0; k < n; k++) {
                    double u = -d1[k] / na, q = -d2[k] / nb, pulled = (u - q) / (a - b), free = gam * (u - pulled * a);
                    out[n + k] -= s3 * (free + pulled);
                    out[2 * n + k] += s2 * (free / 2 + pulled);
                    out[3 * n + k] -= s1 * (free / 3 + pulled);
                    out[4 * n + k] += free / 4 + pulled;
                }
            }
            e = fmax(e, between / allowed);
        }
        if (!(e < 1)) {
            counts[1]++;
            h = hh * (e < 1e300 ? fmax(1 / 6.0, pow(0.5 / e, 0.25)) : 1 / 6.0);
            refused = 1; if (fresh == 1) fresh = 0;
            continue;
        }
        for (int k = 0; k < n; k++) {
            double a1 = V[0] * z[0][k] + V[1] * z[1][k] + V[2] * z[2][k];
            double a2 = V[3] * z[0][k] + V[4] * z[1][k] + V[5] * z[2][k];
            double a3 = V[6] * z[0][k] + V[7] * z[1][k] + V[8] * z[2][k];
            P[0][k] = a1 + 2 * a2 + 3 * a3; P[1][k] = a2 + 3 * a3; P[2][k] = a3;
            y[k] += z[2][k];
            sc[k] = absolute[k] + relative[k] * fabs(y[k]);
        }
        counts[0]++;
        e = fmax(e, 0.5 / 1296);
        double factor = pow(0.5 / e, 0.25);
        if (hold != 0) factor = fmin(factor, factor * (hh / hold) * pow(memory / e, 0.25));
        factor = fmin(6, fmax(1 / 6.0, factor));
        if (refused) factor = fmin(factor, 1);
        memory = e; hold = hh; refused = 0;
        fresh = theta <= 3e-3 ? 1 : 0;
        if (!(fresh == 1 && factor >= 1 && factor <= 1.25)) h = hh * factor;
        t = finish;
        f(t, y, f0, p); counts[2]++;
    }
    return counts[0] + counts[1];
}
