/* The rates of two reacting species on a square whose walls let nothing through: state and rates (2, n, n). */
#include <stddef.h>

#define CELL(j, left, right)                                                                                           \
    {                                                                                                                  \
        double a = u[row + (j)], b = v[row + (j)];                                                                     \
        du[row + (j)] = 1 + a * a * b - 4.4 * a                                                                        \
                        + d * (u[up + (j)] + u[down + (j)] + u[row + (left)] + u[row + (right)] - 4 * a);              \
        dv[row + (j)] = 3.4 * a - a * a * b                                                                            \
                        + d * (v[up + (j)] + v[down + (j)] + v[row + (left)] + v[row + (right)] - 4 * b);              \
    }

void rates(const double *state, double *out, ptrdiff_t n, double diffusion)
{
    const double *u = state, *v = state + n * n;
    double *du = out, *dv = out + n * n, d = diffusion * (n - 1) * (n - 1);
    for (ptrdiff_t i = 0; i < n; i++) {
        ptrdiff_t row = i * n, up = (i == 0 ? 1 : i - 1) * n, down = (i == n - 1 ? n - 2 : i + 1) * n;
        CELL(0, 1, 1)
        for (ptrdiff_t j = 1; j < n - 1; j++)
            CELL(j, j - 1, j + 1)
        CELL(n - 1, n - 2, n - 2)
    }
}
