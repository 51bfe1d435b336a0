/* Members of a sweep by hand, with a known time at which the rates jump and an event that acts: the Dormand-Prince
   5(4) pair with its continuous extension, a starting step by two evaluations beyond each stop, the event's zero by
   false position (Illinois). Rates are reached through a call, as in the library. */
#include <math.h>
#include <stdint.h>

#define N 3

typedef struct { double opens, leak, open; } gate_t;

static __attribute__((noinline)) void rates(const gate_t *p, const double *y, double *out)
{
    out[0] = 0.2 * p->open - p->leak * y[0];
    out[1] = y[0] - y[1];
    out[2] = y[1] - y[2];
}

static double norm(const double *v, const double *y, double rtol, double atol)
{
    double sum = 0.0;
    for (int i = 0; i < N; i++) { double q = v[i] / (atol + rtol * fabs(y[i])); sum += q * q; }
    return sqrt(sum / N);
}

/* a first step whose error is about a hundredth of the tolerance */
static double starting_step(const gate_t *p, const double *y, const double *k, double left, double rtol, double atol)
{
    double w[N], f[N], size = norm(y, y, rtol, atol), speed = norm(k, y, rtol, atol);
    double h = size > 1e-5 && speed > 0.0 ? fmin(left, 0.01 * size / speed) : 1e-6 * left;
    for (int i = 0; i < N; i++) w[i] = y[i] + h * k[i];
    rates(p, w, f);
    for (int i = 0; i < N; i++) f[i] = (f[i] - k[i]) / h;
    double bend = norm(f, y, rtol, atol), rate = speed > 0.0 ? bend / speed : 0.0, best = 100.0 * h;
    if (rate > 0.0) best = pow(0.01 * rate / speed, 0.2) / rate;
    return fmin(fmin(100.0 * h, best), left);
}

static const double a[7][6] = {
    {0}, {1.0 / 5}, {3.0 / 40, 9.0 / 40}, {44.0 / 45, -56.0 / 15, 32.0 / 9},
    {19372.0 / 6561, -25360.0 / 2187, 64448.0 / 6561, -212.0 / 729},
    {9017.0 / 3168, -355.0 / 33, 46732.0 / 5247, 49.0 / 176, -5103.0 / 18656},
    {35.0 / 384, 0, 500.0 / 1113, 125.0 / 192, -2187.0 / 6784, 11.0 / 84}};
static const double e[7] = {35.0 / 384 - 5179.0 / 57600, 0, 500.0 / 1113 - 7571.0 / 16695,
                            125.0 / 192 - 393.0 / 640, -2187.0 / 6784 + 92097.0 / 339200,
                            11.0 / 84 - 187.0 / 2100, -1.0 / 40};

static inline void extend(const double k[7][N], const double *y, double h, double theta, const double *interpolant,
                          double *at)
{
    for (int i = 0; i < N; i++) {
        double sum = 0.0;
        for (int s = 0; s < 7; s++) {
            const double *b = interpolant + s;
            sum += k[s][i] * theta * (b[0] + theta * (b[7] + theta * (b[14] + theta * b[21])));
        }
        at[i] = y[i] + h * sum;
    }
}

/* Marches every member; events go to `when` and `before`. Returns the attempts of all, and writes those of each. */
void gate_members(const double *opens, double leak, long members, const double *start, double end, double rtol,
                  double atol, const double *interpolant, double *finals, int64_t *attempts, double *when,
                  double *before, long room)
{
    long met = 0;
    for (long member = 0; member < members; member++) {
        gate_t p = {opens[member], leak, 0.0};
        double k[7][N], w[N], t = 0.0, memory = 0.0, *y = finals + member * N;
        int refused = 0;
        attempts[member] = 0;
        for (int i = 0; i < N; i++) y[i] = start[i];
        rates(&p, y, k[0]);
        double h = starting_step(&p, y, k[0], end, rtol, atol);
        while (t < end) {
            double stop = p.open == 0.0 ? p.opens : end;
            int last = h * 1.0000001 >= stop - t;
            if (last) h = stop - t;
            attempts[member]++;
            for (int s = 1; s < 7; s++) {
                for (int i = 0; i < N; i++) {
                    double sum = 0.0;
                    for (int j = 0; j < s; j++) sum += a[s][j] * k[j][i];
                    w[i] = y[i] + h * sum;
                }
                rates(&p, w, k[s]);
            }
            double sum = 0.0;
            for (int i = 0; i < N; i++) {
                double error = 0.0;
                for (int s = 0; s < 7; s++) error += h * e[s] * k[s][i];
                double q = error / (atol + rtol * fmax(fabs(y[i]), fabs(w[i])));
                sum += q * q;
            }
            sum /= N;
            if (sum > 1.0) { refused = 1; h *= fmax(0.2, 0.9 * pow(sum, -0.1)); continue; }
            if (y[0] > 0.3 && w[0] <= 0.3) {
                double low = 0.0, high = 1.0, f_low = y[0] - 0.3, f_high = w[0] - 0.3, theta = 1.0, at[N];
                int side = 0;
                for (int turn = 0; turn < 100 && high - low > 4e-16; turn++) {
                    theta = turn % 4 == 3 ? 0.5 * (low + high) : (low * f_high - high * f_low) / (f_high - f_low);
                    extend(k, y, h, theta, interpolant, at);
                    if (at[0] > 0.3) { low = theta; f_low = at[0] - 0.3; if (side == -1) f_high *= 0.5; side = -1; }
                    else { high = theta; f_high = at[0] - 0.3; if (side == 1) f_low *= 0.5; side = 1; }
                    if (at[0] == 0.3) break;
                }
                t += theta * h;
                when[met % room] = t;
                for (int i = 0; i < N; i++) { before[N * (met % room) + i] = at[i]; y[i] = at[i]; }
                met++;
                y[1] += 1.0;
                rates(&p, y, k[0]);
                h = starting_step(&p, y, k[0], stop - t, rtol, atol);
                memory = 0.0;
                /* what has just happened does not happen again at once */
                if (y[0] > 0.3) y[0] = 0.3;
                continue;
            }
            t = last ? stop : t + h;
            for (int i = 0; i < N; i++) { y[i] = w[i]; k[0][i] = k[6][i]; }
            if (last && p.open == 0.0) {
                p.open = 1.0;
                rates(&p, y, k[0]);
                h = starting_step(&p, y, k[0], end - t, rtol, atol);
                memory = 0.0;
                continue;
            }
            double size = 0.5 * log(fmax(sum, 1e-20));
            double factor = fmin(5.0, fmax(0.2, 0.9 * exp((0.4 * memory - 0.7 * size) / 5)));
            if (refused) factor = fmin(factor, 1.0);
            memory = fmax(size, -9.2);
            refused = 0;
            h *= factor;
        }
    }
}
