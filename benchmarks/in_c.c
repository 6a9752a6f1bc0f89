/* The work of some kernels as one would write it in C, both legs: compiled by benchmarks/in_c.py with
   `cc -O3 -march=native -ffp-contract=fast` and timed beside them. */
#include <math.h>
#include <stdint.h>
#include <string.h>

typedef double two __attribute__((vector_size(16)));

/* Ten second-order sections, transposed direct form II, both legs in one vector, their states in registers; c: sections of
   b0 b1 b2 a1 a2, each a pair. */
#define EACH(do) do(0) do(1) do(2) do(3) do(4) do(5) do(6) do(7) do(8) do(9)
void eq(double *restrict upper, double *restrict lower, long frames, const two *restrict c, two *restrict state)
{
#define LOAD(k) two s##k = state[2 * k], t##k = state[2 * k + 1];
#define STEP(k) { two y = c[5 * k] * x + s##k; s##k = c[5 * k + 1] * x - c[5 * k + 3] * y + t##k; \
                  t##k = c[5 * k + 2] * x - c[5 * k + 4] * y; x = y; }
#define STORE(k) state[2 * k] = s##k; state[2 * k + 1] = t##k;
    EACH(LOAD)
    for (long i = 0; i < frames; i++) {
        two x = {upper[i], lower[i]};
        EACH(STEP)
        upper[i] = x[0];
        lower[i] = x[1];
    }
    EACH(STORE)
}

/* Left and right to mid and side, and back. */
void there_and_back(const double *left, const double *right, double *mid, double *side, double *out_l, double *out_r,
                    long frames)
{
    for (long i = 0; i < frames; i++) { mid[i] = 0.5 * (left[i] + right[i]); side[i] = 0.5 * (left[i] - right[i]); }
    for (long i = 0; i < frames; i++) { out_l[i] = mid[i] + side[i]; out_r[i] = mid[i] - side[i]; }
}

static double log2_of(double x)
{
    int64_t bits;
    memcpy(&bits, &x, 8);
    bits += 0x95f619980c432;
    double exponent = (double)(bits >> 52) - 1023.0;
    bits = (bits & 0xfffffffffffff) + 0x3fe6a09e667f3bce;
    double m;
    memcpy(&m, &bits, 8);
    double t = (m - 1.0) / (m + 1.0), s = t * t;
    double series = s * (s * (s * (s * (s * (1.0 / 11) + 1.0 / 9) + 1.0 / 7) + 1.0 / 5) + 1.0 / 3) + 1.0;
    return 2.8853900817779268 * t * series + exponent;
}

static double exp2_of(double x)
{
    double whole = nearbyint(x), f = (x - whole) * 0.6931471805599453;
    double p = f * (f * (f * (f * (f * (1.0 / 40320) + 1.0 / 5040) + 1.0 / 720) + 1.0 / 120) + 1.0 / 24);
    p = f * (f * (f * (p + 1.0 / 6) + 0.5) + 1.0) + 1.0;
    int64_t bits = ((int64_t)whole + 1023) << 52;
    double power;
    memcpy(&power, &bits, 8);
    return p * power;
}

/* Powers to a level, a soft knee, a smoother of two times, and the gain applied: of one leg. */
void compress(double *leg, const double *powers, double *wanted, long frames, double threshold, double slope, double knee,
              double most, double attack, double release, double makeup, double *state)
{
    double half = 0.5 * knee, bend = slope / (4.0 * half), fast = *state;
    for (long i = 0; i < frames; i++) {
        double over = 3.010299956639812 * log2_of(powers[i] + 1e-30) - threshold, inside = over + half;
        double soft = inside > 0.0 ? bend * inside * inside : 0.0;
        double value = over > half ? slope * over : soft;
        wanted[i] = value < most ? value : most;
    }
    for (long i = 0; i < frames; i++) {
        double value = wanted[i];
        fast = (value > fast ? attack : release) * (fast - value) + value;
        fast = fast > 1e-9 ? fast : 0.0;
        wanted[i] = fast;
    }
    for (long i = 0; i < frames; i++) leg[i] *= exp2_of(0.16609640474436813 * (makeup - wanted[i]));
    *state = fast;
}

/* A filter without recursion, as an oversampler has it: out[i] is the sum of weights[k] joined[i + k]. */
void fir(const double *joined, const double *weights, long count, double *out, long frames)
{
    for (long start = 0; start + 32 <= frames; start += 32) {
        double sums[32] = {0.0};
        for (long k = 0; k < count; k++)
            for (int i = 0; i < 32; i++) sums[i] += weights[k] * joined[start + k + i];
        memcpy(out + start, sums, sizeof sums);
    }
}
