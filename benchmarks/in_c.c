/* The work of some kernels as one would write it in C, both legs: compiled by benchmarks/in_c.py with
   `cc -O3 -march=native -ffp-contract=fast` and timed beside them. */
#include <math.h>
#include <stdint.h>
#include <string.h>

typedef double two __attribute__((vector_size(16)));
typedef double eight __attribute__((vector_size(64)));

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

/* out[r][column + i] = sum over s and k of weights[r][s][k] sources[s][i + k]. */
static void sum_rows(const double *sources, long stride, long count, const double *weights, long rows, long span, double *out,
                     long width, long column, long frames)
{
    for (long start = 0; start < frames; start += 16)
        for (long row = 0; row < rows; row += 2) {
            eight a = {0.0}, b = a, c = a, d = a;
            const double *w = weights + row * count * span, *v = w + count * span;
            for (long s = 0; s < count; s++)
                for (long k = 0; k < span; k++) {
                    eight first, second;
                    memcpy(&first, sources + s * stride + start + k, sizeof first);
                    memcpy(&second, sources + s * stride + start + k + 8, sizeof second);
                    a += w[s * span + k] * first;
                    b += w[s * span + k] * second;
                    c += v[s * span + k] * first;
                    d += v[s * span + k] * second;
                }
            double *to = out + row * width + column + start;
            memcpy(to, &a, sizeof a);
            memcpy(to + 8, &b, sizeof b);
            memcpy(to + width, &c, sizeof c);
            memcpy(to + width + 8, &d, sizeof d);
        }
}

static void move_rows(double *array, long rows, long width, long source, long count)
{
    for (long row = 0; row < rows; row++) memmove(array + row * width, array + row * width + source, 8 * count);
}

static double towards(double a, double b)
{
    double turn = a * b < 0.0 ? a / (a - b) : 0.0;
    double total = a / 6.0 - a * turn * turn / 3.0 + b / 3.0;
    return b < 0.0 || (b == 0.0 && a < 0.0) ? -total : total;
}

/* One leg up to `factor` times its rate in rows of `width`, bent by a soft (0) or a hard curve (1), and back. */
void drive(double *signal, long frames, long factor, long hard, double gain, double bias, const double *c, double *past,
           double *halves, double *rows, const double *taps, const double *up, double *bent, double *back,
           const double *down_taps, const double *down, long width, long back_width, long count, long lead, long span,
           long last)
{
    move_rows(rows, factor, width, last, lead);
    memcpy(past + count - 1, signal, 8 * frames);
    memcpy(halves + lead, past + count / 2 - 1, 8 * frames);
    fir(past, taps, count, halves + width + lead, frames);
    sum_rows(halves, width, 2, up, factor, span, rows, width, lead, frames);
    move_rows(halves, 2, width, frames, lead);
    memmove(past, past + frames, 8 * (count - 1));
    double scale = 0.88622692545275801, end = 3.7;
    double rest = hard ? fmin(fmax(bias, -1.0), 1.0) : erf(scale * bias);
    for (long q = 0; q < factor; q++) {
        const double *x = rows + q * width + lead - 1;
        const double *before = q > 0 ? rows + (q - 1) * width + lead - 1 : rows + (factor - 1) * width + lead - 2;
        const double *after = q < factor - 1 ? rows + (q + 1) * width + lead - 1 : rows + lead;
        double *out = bent + q * width + lead;
        if (hard)
            for (long i = 0; i < frames; i++) {
                double x0 = gain * before[i] + bias, x1 = gain * x[i] + bias, x2 = gain * after[i] + bias;
                double value = towards(x0 + 1.0, x1 + 1.0) - towards(x0 - 1.0, x1 - 1.0);
                value += towards(x2 + 1.0, x1 + 1.0) - towards(x2 - 1.0, x1 - 1.0);
                out[i] = 0.5 * value - rest;
            }
        else
            for (long i = 0; i < frames; i++) {
                double v = (gain * x[i] + bias) * scale;
                v = v > end ? end : v;
                v = v < -end ? -end : v;
                double t = v * v * (2.0 / (end * end)) - 1.0, p = c[14];
                for (int k = 13; k >= 0; k--) p = p * t + c[k];
                out[i] = v * p - rest;
            }
    }
    sum_rows(bent, width, factor, down, 2, span, back, back_width, count - 1, frames);
    move_rows(bent, factor, width, frames, lead);
    fir(back + back_width, down_taps, count, signal, frames);
    for (long i = 0; i < frames; i++) signal[i] += 0.5 * back[count / 2 + i];
    move_rows(back, 2, back_width, frames, count - 1);
}
