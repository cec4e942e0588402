/* The practice drive's loop by hand: rotor, fixed and speed frames, encoder and halls, two masses.
   The same arithmetic as src/oarlock/simulate, in the same order; indices come from its layout. */
#include <math.h>
#include <stdint.h>
#include "layout.h"

/* A number that is 1.5 times 2^52 higher has no places left. */
#define WHOLE 6755399441055744.0

static void cos_sin(double x, double *c, double *s) {
    double k = (x * 0.6366197723675814 + WHOLE) - WHOLE;
    double r = x - k * 1.5707963267341256 - k * 6.077100506303966e-11 - k * 2.0222662487959506e-21;
    double z = r * r, zz = z * z;
    double odd = (1.0 / 6.0 - z * (1.0 / 120.0)) + zz * ((1.0 / 5040.0 - z * (1.0 / 362880.0)) +
        zz * ((1.0 / 39916800.0 - z * (1.0 / 6227020800.0)) + zz * (1.0 / 1307674368000.0)));
    double even = (1.0 / 24.0 - z * (1.0 / 720.0)) + zz * ((1.0 / 40320.0 - z * (1.0 / 3628800.0)) +
        zz * ((1.0 / 479001600.0 - z * (1.0 / 87178291200.0)) + zz * (1.0 / 20922789888000.0)));
    double sine = r - r * z * odd, cosine = 1.0 - z * (0.5 - z * even);
    double quarter = k - 4.0 * floor(0.25 * k);
    int crosses = quarter == 1.0 || quarter == 3.0;
    double first = crosses ? sine : cosine, second = crosses ? cosine : sine;
    *c = quarter == 1.0 || quarter == 2.0 ? -first : first;
    *s = quarter >= 2.0 ? -second : second;
}

static double sine_of(double x) {
    double c, s;
    cos_sin(x, &c, &s);
    return s;
}

static double power(double x) {
    double turned = x * 1.4426950408889634 + WHOLE, k = turned - WHOLE;
    double r = (0.5 * x - k * 0.34657359018456190) - k * 9.541074646352939e-11, z = r * r;
    double low = (0.4999999999999982 + r * 0.16666666666666652) +
                 z * (0.0416666666685331 + r * 0.008333333333502998);
    double high = (0.0013888885781333851 + r * 0.00019841267016397775) +
                  z * (2.4818143088255625e-05 + r * 2.75723692148189e-06);
    double half = 1.0 + (r + z * (low + z * z * high));
    union { double number; uint64_t bits; } two = { .number = turned };
    two.bits = (two.bits + 1023) << 52;
    return half * half * two.number;
}

static uint64_t bits_of(int64_t seed, int64_t clock, int64_t stream) {
    uint64_t x = (uint64_t)seed * 0x9E3779B97F4A7C15u + (uint64_t)clock;
    x = x * 0xBF58476D1CE4E5B9u + (uint64_t)stream;
    for (int i = 0; i < 2; i++) {
        x ^= x >> 30; x *= 0xBF58476D1CE4E5B9u;
        x ^= x >> 27; x *= 0x94D049BB133111EBu;
        x ^= x >> 31;
    }
    return x;
}

static double share_of(uint64_t x) { return ((double)(x >> 11) + 0.5) / 9007199254740992.0; }

/* The ziggurat: where its layers end, and what of each lies below the curve all over. */
#define LAYERS 128
#define LAST 3.442619855899
#define AREA 9.91256303526217e-3
#define TRIES (1 << 20)
static double layers[LAYERS + 1], inner[LAYERS];

void prepare(void) {
    layers[0] = AREA / exp(-0.5 * LAST * LAST);
    layers[1] = LAST;
    for (int i = 2; i < LAYERS; i++) {
        double high = exp(-0.5 * layers[i - 1] * layers[i - 1]);
        layers[i] = sqrt(-2.0 * log(AREA / layers[i - 1] + high));
    }
    layers[LAYERS] = 0.0;
    for (int i = 0; i < LAYERS; i++) inner[i] = layers[i + 1] / layers[i];
}

static double beside(int64_t seed, int64_t clock, int64_t at, int layer, double u) {
    for (;;) {
        if (layer == 0) {
            double x, y;
            do {
                x = log(share_of(bits_of(seed, clock, at += TRIES))) / LAST;
                y = log(share_of(bits_of(seed, clock, at += TRIES)));
            } while (-2.0 * y < x * x);
            return u < 0.0 ? x - LAST : LAST - x;
        }
        double x = u * layers[layer];
        double low = exp(-0.5 * (layers[layer] * layers[layer] - x * x));
        double high = exp(-0.5 * (layers[layer + 1] * layers[layer + 1] - x * x));
        if (high + share_of(bits_of(seed, clock, at += TRIES)) * (low - high) < 1.0) return x;
        uint64_t bits = bits_of(seed, clock, at += TRIES);
        layer = bits & (LAYERS - 1);
        u = 2.0 * share_of(bits) - 1.0;
        if (fabs(u) < inner[layer]) return u * layers[layer];
    }
}

static double normal(int64_t seed, int64_t clock, int64_t stream) {
    uint64_t bits = bits_of(seed, clock, 2 * stream);
    int layer = bits & (LAYERS - 1);
    double u = 2.0 * share_of(bits) - 1.0;
    if (fabs(u) < inner[layer]) return u * layers[layer];
    return beside(seed, clock, 2 * stream, layer, u);
}

static double bent(double x) {
    double small = power(-2.0 * fmin(fabs(x), 20.0));
    return copysign((1.0 - small) / (1.0 + small), x);
}

static void bent_and_log(double x, double *bent_by, double *ln_cosh) {
    double size = fabs(x), small = power(-2.0 * fmin(size, 20.0));
    double one = 1.0 + small, two = 2.0 + small, per = 1.0 / (one * two);
    double s = small * one * per, z = s * s, zz = z * z;
    double low = (1.0 / 3.0 + z * 0.20000000000007292)
        + zz * (0.1428571428355438 + z * 0.11111111358713932);
    double high = (0.09090894718066429 + z * 0.07692785032479312)
        + zz * ((0.06657072104827468 + z * 0.06000536404795356)
                + zz * (0.04400369243072337 + z * 0.08082022805971766));
    *bent_by = copysign((1.0 - small) * two * per, x);
    *ln_cosh = size + 2.0 * (s + s * z * (low + zz * zz * high)) - 0.6931471805599453;
}

static double held_in(double x) { return fmin(fmax(x, -20.0), 20.0); }

static void three_bent(double x, double y, double *p, double *q, double *r) {
    double a = power(-2.0 * held_in(x)), b = power(-2.0 * held_in(y)), ab = a * b;
    if (fmax(fabs(x), fabs(y)) > 20.0) ab = power(2.0 * held_in(-x - y));
    double of_a = 1.0 + a, of_b = 1.0 + b, of_ab = 1.0 + ab, both = of_a * of_b;
    double per = 1.0 / (both * of_ab), rest = of_ab * per;
    *p = (1.0 - a) * of_b * rest;
    *q = (1.0 - b) * of_a * rest;
    *r = (ab - 1.0) * both * per;
}

static double flux_now(const double *p, const double *x) {
    return p[PSI] * (1.0 - p[FLUX_HEAT] * x[HEAT]);
}

static void fluxes(const double *p, double psi, double i_d, double i_q, double *flux_d,
                   double *flux_q, double *inc_d, double *inc_q, double *mutual) {
    double bend = p[LD_BEND], more = p[LQ] - p[LQ_SATURATED];
    *flux_d = psi + p[LD] * i_d;
    *inc_d = p[LD];
    *flux_q = p[LQ_SATURATED] * i_q;
    *inc_q = p[LQ_SATURATED];
    if (bend != 0.0) {
        double share, ln_cosh;
        bent_and_log(i_d / p[I_BEND], &share, &ln_cosh);
        *flux_d = psi + p[LD] * (i_d - bend * p[I_BEND] * ln_cosh);
        *inc_d = p[LD] * (1.0 - bend * share);
    }
    if (more != 0.0) {
        double share = bent(i_q / p[I_SATURATION]);
        *flux_q += more * p[I_SATURATION] * share;
        *inc_q += more * (1.0 - share * share);
    }
    double across = p[CROSS];
    *flux_d -= across * i_q * i_q;
    *flux_q -= 2.0 * across * i_d * i_q;
    *inc_q -= 2.0 * across * i_d;
    *mutual = -2.0 * across * i_q;
}

/* What stays over many slopes. */
struct once { double per_knee, share, per_det; int straight; };

static struct once once(const double *p, double r) {
    struct once o;
    o.per_knee = p[V_DEAD] > 0.0 ? 1.0 / p[I_KNEE] : 0.0;
    o.share = p[IRON] > 0.0 ? 1.0 / (1.0 + p[IRON] * r) : 1.0;
    o.straight = p[LD_BEND] == 0.0 && p[LQ] == p[LQ_SATURATED] && p[CROSS] == 0.0;
    o.per_det = o.straight ? 1.0 / (p[LD] * p[LQ]) : 0.0;
    return o;
}

static void slope(const double *p, double r, double psi, double i_d, double i_q, double w,
                  double c, double s, double va, double vb, const struct once *o, double *a,
                  double *b, double *core) {
    if (p[V_DEAD] > 0.0) {
        double ia = i_d * c - i_q * s, ib = i_d * s + i_q * c;
        double lost = p[V_DEAD], pa = ia * o->per_knee;
        double pb = (-0.5 * ia + 0.8660254037844386 * ib) * o->per_knee;
        double la, lb, lc;
        three_bent(pa, pb, &la, &lb, &lc);
        va -= lost * (1.0 / 3.0) * (2.0 * la - lb - lc);
        vb -= lost * 0.5773502691896258 * (lb - lc);
    }
    double vd = va * c + vb * s, vq = vb * c - va * s, flux_d, flux_q, inc_d, inc_q, mutual;
    core[0] = o->share * (vd - r * i_d);
    core[1] = o->share * (vq - r * i_q);
    if (o->straight) {
        *a = o->per_det * (p[LQ] * (core[0] + w * (p[LQ] * i_q)));
        *b = o->per_det * (p[LD] * (core[1] - w * (psi + p[LD] * i_d)));
        return;
    }
    fluxes(p, psi, i_d, i_q, &flux_d, &flux_q, &inc_d, &inc_q, &mutual);
    double ud = core[0] + w * flux_q, uq = core[1] - w * flux_d;
    double per_det = 1.0 / (inc_d * inc_q - mutual * mutual);
    *a = per_det * (inc_q * ud - mutual * uq);
    *b = per_det * (inc_d * uq - mutual * ud);
}

static void step(const double *p, double r, double psi, double *i_d, double *i_q, double w,
                 double *cosine, double *sine, double va, double vb, double h, double *core) {
    double d = *i_d, q = *i_q, rest[2], c = *cosine, s = *sine, half = 0.5 * h;
    double ct, st;
    cos_sin(half * w, &ct, &st);
    double c2 = c * ct - s * st, s2 = s * ct + c * st;
    double c4 = c2 * ct - s2 * st, s4 = s2 * ct + c2 * st;
    double a1, b1, a2, b2, a3, b3, a4, b4;
    struct once o = once(p, r);
    slope(p, r, psi, d, q, w, c, s, va, vb, &o, &a1, &b1, rest);
    slope(p, r, psi, d + half * a1, q + half * b1, w, c2, s2, va, vb, &o, &a2, &b2, rest);
    slope(p, r, psi, d + half * a2, q + half * b2, w, c2, s2, va, vb, &o, &a3, &b3, core);
    slope(p, r, psi, d + h * a3, q + h * b3, w, c4, s4, va, vb, &o, &a4, &b4, rest);
    *cosine = c4;
    *sine = s4;
    double sixth = h * (1.0 / 6.0);
    *i_d = d + sixth * (a1 + 2.0 * (a2 + a3) + a4);
    *i_q = q + sixth * (b1 + 2.0 * (b2 + b3) + b4);
}

static double warmed(const double *p, double *x) {
    double r = p[R] * (1.0 + COPPER_HEAT * x[HEAT]);
    double loss = 1.5 * r * (x[I_D] * x[I_D] + x[I_Q] * x[I_Q]);
    x[HEAT] += p[TS] * (p[HEATING] * loss - p[COOLING] * x[HEAT]);
    return r;
}

static void integrate(const double *p, double *x, double c, double s) {
    double core[2], psi = flux_now(p, x), r = warmed(p, x), w = x[OMEGA] * p[PAIRS];
    int parts = fabs(w) * p[TS] > 0.1 ? 2 : 1;
    double each = parts == 2 ? 0.5 : 1.0;
    x[CORE_D] = x[CORE_Q] = 0.0;
    for (int n = 0; n < parts; n++) {
        step(p, r, psi, x + I_D, x + I_Q, w, &c, &s, x[V_ALPHA], x[V_BETA], each * p[TS], core);
        x[CORE_D] += each * p[IRON] * core[0];
        x[CORE_Q] += each * p[IRON] * core[1];
    }
}

/* The bridge that switches: edges met one by one, diodes in the dead time. */

#define NEAR 1e-9
#define NO_CURRENT 1e-9
#define NEVER 1e9
#define SQRT3 1.7320508075688772
#define PER_TAU (1.0 / TAU)

static void seen(double *c, double *s, int n) {
    if (n == 0) return;
    double side = n == 1 ? 0.5 * SQRT3 : -0.5 * SQRT3, was = *c;
    *c = side * *s - 0.5 * was;
    *s = -0.5 * *s - side * was;
}

static double along(double d, double q, double c, double s, int n) {
    seen(&c, &s, n);
    return d * c - q * s;
}

static void without(double *d, double *q, double c, double s, int n) {
    seen(&c, &s, n);
    double a = *d * c - *q * s;
    *d -= a * c;
    *q += a * s;
}

static void told(const double *p, double *x, double *at, double half) {
    double bus = x[V_BUS], beta = 0.5 * SQRT3 * x[V_BETA], volts[3];
    volts[0] = x[V_ALPHA];
    volts[1] = beta - 0.5 * volts[0];
    volts[2] = -beta - 0.5 * volts[0];
    double low = fmin(volts[0], fmin(volts[1], volts[2]));
    double high = fmax(volts[0], fmax(volts[1], volts[2]));
    int kind = (int)p[MODULATION];
    double shift = kind == SINE_WAVE ? 0.0 : -0.5 * (high + low);
    if (kind == DISCONTINUOUS) shift = high > -low ? 0.5 * bus - high : -0.5 * bus - low;
    for (int n = 0; n < 3; n++) {
        double duty = 0.5 + (volts[n] + shift) / bus;
        if (duty < NEAR || duty > 1.0 - NEAR) duty = duty < 0.5 ? 0.0 : 1.0;
        int falling = x[FALLING] > 0.0, up = falling ? duty > 0.0 : duty >= 1.0;
        if ((x[LEG_UP + n] > 0.0) != up) { x[LEG_UP + n] = up; x[LEG_DEAD + n] = p[DEAD_TIME]; }
        at[n] = duty > 0.0 && duty < 1.0 ? (falling ? half * duty : half * (1.0 - duty)) : NEVER;
    }
}

static int floating(const double *p, const double *x, double *pole, double r, double psi,
                    double w, double c, double s, int n) {
    double bus = x[V_BUS], rate[2], core[2];
    struct once o = once(p, r);
    for (int top = 0; top < 2; top++) {
        pole[n] = top * bus;
        double va = (2.0 * pole[0] - pole[1] - pole[2]) / 3.0, vb = (pole[1] - pole[2]) / SQRT3;
        double a, b;
        slope(p, r, psi, x[I_D], x[I_Q], w, c, s, va, vb, &o, &a, &b, core);
        rate[top] = along(a - w * x[I_Q], b + w * x[I_D], c, s, n);
    }
    if (rate[0] >= 0.0 || rate[1] <= 0.0) { pole[n] = rate[0] >= 0.0 ? 0.0 : bus; return 0; }
    pole[n] = -rate[0] / (rate[1] - rate[0]) * bus;
    return 1;
}

static double stretch(const double *p, double *x, double *pole, double *sums, double r,
                      double psi, double w, double *cosine, double *sine, double h) {
    double bus = x[V_BUS], core[2], d = 0.0, q = 0.0, c = *cosine, s = *sine, c1 = c, s1 = s;
    int loose = 0, held = 0, ends = -1;
    for (int n = 0; n < 3; n++) {
        double current = along(x[I_D], x[I_Q], c, s, n);
        if (x[LEG_DEAD + n] <= 0.0) pole[n] = bus * x[LEG_UP + n];
        else if (current > NO_CURRENT) pole[n] = 0.0;
        else if (current < -NO_CURRENT) pole[n] = bus;
        else { pole[n] = 0.5 * bus; loose += 1 << n; }
    }
    if (loose) for (int pass = 0; pass < ((loose & (loose - 1)) ? 16 : 1); pass++) {
        held = 0;
        for (int n = 0; n < 3; n++)
            if ((loose >> n & 1) && floating(p, x, pole, r, psi, w, c, s, n)) held += 1 << n;
    }
    double va = (2.0 * pole[0] - pole[1] - pole[2]) / 3.0, vb = (pole[1] - pole[2]) / SQRT3;
    for (int attempt = 0; attempt < 2; attempt++) {
        d = x[I_D];
        q = x[I_Q];
        c1 = c;
        s1 = s;
        step(p, r, psi, &d, &q, w, &c1, &s1, va, vb, h, core);
        if (attempt) break;
        double share = 1.0;
        for (int n = 0; n < 3; n++) if (x[LEG_DEAD + n] > 0.0 && !(held >> n & 1)) {
            double before = along(x[I_D], x[I_Q], c, s, n);
            double after = along(d, q, c1, s1, n);
            if (fabs(before) > NO_CURRENT && before * after < 0.0) {
                double part = before / (before - after);
                if (part < share) { share = part; ends = n; }
            }
        }
        if (ends < 0) break;
        h *= share;
    }
    if (ends >= 0) held |= 1 << ends;
    if (held & (held - 1)) d = q = 0.0;
    else if (held) without(&d, &q, c1, s1, held >> 1);
    x[I_D] = d;
    x[I_Q] = q;
    sums[SUM_E_D - SUM_SQUARE] += h * core[0];
    sums[SUM_E_Q - SUM_SQUARE] += h * core[1];
    *cosine = c1;
    *sine = s1;
    return h;
}

static void add(const double *x, double *sums, double c, double s, double d, double q, double c1,
                double s1, double begun, double h, double whole) {
    double a0 = d * c - q * s, b0 = d * s + q * c;
    double a1 = x[I_D] * c1 - x[I_Q] * s1, b1 = x[I_D] * s1 + x[I_Q] * c1;
    double t0 = begun / whole, t1 = (begun + h) / whole;
    sums[0] += h / 3.0 * (a0 * a0 + a0 * a1 + a1 * a1 + b0 * b0 + b0 * b1 + b1 * b1);
    sums[1] += 0.5 * h * (a0 + a1);
    sums[2] += 0.5 * h * (b0 + b1);
    sums[3] += h / 6.0 * (a0 * (2.0 * t0 + t1) + a1 * (t0 + 2.0 * t1));
    sums[4] += h / 6.0 * (b0 * (2.0 * t0 + t1) + b1 * (t0 + 2.0 * t1));
}

static void switched(const double *p, double *x, float *reach) {
    double T = p[TS], theta = x[THETA] * p[PAIRS], w = x[OMEGA] * p[PAIRS];
    int halves = (int)p[HALVES];
    double half = T / halves, near = NEAR * half, pole[3], at[3], sums[7] = {0.0};
    double psi = flux_now(p, x), r = warmed(p, x), c, s;
    cos_sin(theta, &c, &s);
    double a0 = x[I_D] * c - x[I_Q] * s, b0 = x[I_D] * s + x[I_Q] * c;
    reach[D_LEAST] = reach[D_MOST] = (float)x[I_D];
    reach[Q_LEAST] = reach[Q_MOST] = (float)x[I_Q];
    reach[SIZE_MOST] = 0.0f;
    for (int number = 0; number < halves; number++) {
        told(p, x, at, half);
        double done = 0.0, before = number * half;
        for (int i = 0; i < 64; i++) {
            double longest = half - done;
            for (int n = 0; n < 3; n++) {
                longest = fmin(longest, at[n] - done);
                if (x[LEG_DEAD + n] > 0.0) longest = fmin(longest, x[LEG_DEAD + n]);
            }
            double h = longest = fmax(longest, 0.0), here = theta + w * (before + done);
            if (longest > near) {
                double d = x[I_D], q = x[I_Q];
                double c0, s0, c1, s1;
                cos_sin(here, &c0, &s0);
                c1 = c0;
                s1 = s0;
                h = stretch(p, x, pole, sums, r, psi, w, &c1, &s1, longest);
                add(x, sums, c0, s0, d, q, c1, s1, before + done, h, T);
                reach[D_LEAST] = fminf(reach[D_LEAST], (float)x[I_D]);
                reach[D_MOST] = fmaxf(reach[D_MOST], (float)x[I_D]);
                reach[Q_LEAST] = fminf(reach[Q_LEAST], (float)x[I_Q]);
                reach[Q_MOST] = fmaxf(reach[Q_MOST], (float)x[I_Q]);
                reach[SIZE_MOST] = fmaxf(reach[SIZE_MOST], (float)sqrt(x[I_D] * x[I_D] + x[I_Q] * x[I_Q]));
            }
            done += h;
            for (int n = 0; n < 3; n++) {
                if (x[LEG_DEAD + n] > 0.0) {
                    double left = x[LEG_DEAD + n] - h;
                    x[LEG_DEAD + n] = left > near ? left : 0.0;
                }
                if (at[n] <= done + near) {
                    at[n] = NEVER;
                    x[LEG_UP + n] = 1.0 - x[LEG_UP + n];
                    x[LEG_DEAD + n] = p[DEAD_TIME];
                }
            }
            if (done >= half - near) break;
        }
        x[FALLING] = 1.0 - x[FALLING];
    }
    x[CORE_D] = p[IRON] * sums[5] / T;
    x[CORE_Q] = p[IRON] * sums[6] / T;
    cos_sin(theta + w * T, &c, &s);
    double a1 = x[I_D] * c - x[I_Q] * s, b1 = x[I_D] * s + x[I_Q] * c;
    double line = T / 3.0 * (a0 * a0 + a0 * a1 + a1 * a1 + b0 * b0 + b0 * b1 + b1 * b1);
    double across = a0 * sums[1] + (a1 - a0) * sums[3] + b0 * sums[2] + (b1 - b0) * sums[4];
    reach[RIPPLE] = (float)(fmax(sums[0] - 2.0 * across + line, 0.0) / T);
}

static double pushed(const double *p, double omega, double torque, int released, double per_mass) {
    double held = released && p[BRAKE_STUCK] == 0.0 ? 0.0 : p[BRAKE], rub = p[COULOMB];
    double goes = omega != 0.0 ? omega : torque;
    if (p[STRIBECK] > 0.0) rub *= 1.0 + p[STRIBECK] * power(fmax(-fabs(omega) / p[STRIBECK_SPEED], -708.0));
    if (goes < 0.0) rub += p[COULOMB_BACK];
    double still = rub * p[STICTION] + held;
    double pull = torque - p[VISCOUS] * omega - copysign(rub + held, goes);
    double now = omega + per_mass * pull;
    return fabs(torque) <= still && now * omega <= 0.0 ? 0.0 : now;
}

static double carried(const double *p, double twist, double slip) {
    if (p[PLAY] <= 0.0) return p[STIFFNESS] * twist + p[SHAFT_DAMPING] * slip;
    double half = 0.5 * p[PLAY];
    if (twist > half) return fmax(p[STIFFNESS] * (twist - half) + p[SHAFT_DAMPING] * slip, 0.0);
    if (twist < -half) return fmin(p[STIFFNESS] * (twist + half) + p[SHAFT_DAMPING] * slip, 0.0);
    return 0.0;
}

static void turn(const double *p, double *x, int released, double per_mass, double per_load) {
    double h = p[TS], i_d = x[I_D], i_q = x[I_Q], flux_d, flux_q, none[3];
    fluxes(p, flux_now(p, x), i_d, i_q, &flux_d, &flux_q, none, none + 1, none + 2);
    double theta = x[THETA], omega = x[OMEGA], was, at_end = 1.5 * p[PAIRS] * (flux_d * i_q - flux_q * i_d);
    double torque = 0.5 * (x[TORQUE] + at_end);
    x[TORQUE] = at_end;
    if (p[COGGING] != 0.0) torque -= p[COGGING] * sine_of(p[COGGING_ORDER] * theta);
    if (p[STIFFNESS] > 0.0) {
        double part = h / SUBSTEPS, far = x[OMEGA_LOAD], twist = x[TWIST];
        for (int i = 0; i < SUBSTEPS; i++) {
            double through = carried(p, twist, omega - far);
            far += per_load * (through - p[LOAD] - p[LOAD_SQUARE] * far * fabs(far));
            was = omega;
            omega = pushed(p, omega, torque - through, released, per_mass);
            theta += 0.5 * part * (was + omega);
            twist += part * (omega - far);
        }
        x[OMEGA_LOAD] = far;
        x[TWIST] = twist;
    } else {
        was = omega;
        torque -= p[LOAD] + p[LOAD_SQUARE] * omega * fabs(omega);
        omega = pushed(p, omega, torque, released, per_mass);
        theta += 0.5 * h * (was + omega);
    }
    x[THETA] = theta;
    x[OMEGA] = omega;
}

static void sensed(const double *p, const double *f, const double *x, double *m, int64_t seed,
                   int64_t clock, double per_count, double *cosine, double *sine) {
    double theta = x[THETA] * p[PAIRS], c, s, phase[3];
    cos_sin(theta, &c, &s);
    *cosine = c;
    *sine = s;
    double i_d = x[I_D] + x[CORE_D], i_q = x[I_Q] + x[CORE_Q];
    double alpha = i_d * c - i_q * s, beta = i_d * s + i_q * c;
    phase[0] = alpha;
    phase[1] = -0.5 * alpha + 0.8660254037844386 * beta;
    phase[2] = -phase[0] - phase[1];
    for (int n = 0; n < 3; n++) {
        double most = n ? p[FULL_SCALE] : fmin(p[FULL_SCALE], p[CLIP_A]), count = p[COUNT];
        double real = phase[(int)p[WIRE_A + (int)p[SENSE_A + n]]];
        double noise = p[NOISE] * normal(seed, clock, n + 1);
        double reading = rint((real * p[GAIN_A + n] + p[OFFSET_A + n] + noise) * per_count) * count;
        m[n] = fmin(fmax(reading, -most), most - count) - f[F_OFFSET_A + n];
    }
    int u = (int)f[F_UNSENSED];
    if (u > 0) m[u - 1] = -(m[u % 3] + m[(u + 1) % 3]);
}

static int hall_code(const double *p, double electrical, double mechanical) {
    int code = 0;
    for (int n = 0; n < 3; n++) {
        double rise = p[HALL_EDGE + 2 * n], fall = p[HALL_EDGE + 2 * n + 1];
        if (p[HALL_SPREAD] != 0.0) {
            rise += p[HALL_SPREAD] * sine_of(mechanical * (n + 1));
            fall += p[HALL_SPREAD] * sine_of(mechanical * (n + 1) + 2.0);
        }
        double at = electrical - n * p[HALL_STEP];
        at -= TAU * floor((at - rise) * PER_TAU);
        if (at < 3.141592653589793 + fall) code += 1 << n;
    }
    return code;
}

static void sensor(const double *p, double *x) {
    double at = p[SENSOR_SIDE] * (x[THETA] * (1.0 - p[SLIP]) - p[SENSOR_ZERO]);
    if (p[RUNOUT] != 0.0) at += p[RUNOUT] * sine_of(x[THETA] + p[RUNOUT_PHASE]);
    double h = p[HYSTERESIS];
    at = fmin(fmax(x[SENSOR_AT], at - h), at + h);
    x[SENSOR_AT] = at;
    double turns = at * PER_TAU, rounds = floor(turns);
    x[COUNTS_AT] = floor(turns * p[ENCODER_COUNTS]) - p[MISSING] * rounds;
    x[ROUND_AT] = rounds;
    double electrical = at * p[PAIRS];
    x[HALL_BEFORE] = x[HALL_AT];
    x[HALL_AT] = hall_code(p, electrical - TAU * floor(electrical * PER_TAU), at);
}

static void speed(const double *f, double *x, int64_t *meta, double *history, double Ts) {
    int64_t newest = (meta[HISTORY_AT] + 1) % HISTORY;
    history[newest] = x[THETA_M];
    meta[HISTORY_AT] = newest;
    if (meta[HISTORY_LENGTH] < HISTORY) meta[HISTORY_LENGTH]++;
    int every = (int)f[W_EVERY] > 1 ? (int)f[W_EVERY] : 1;
    if (++meta[SINCE] < every) return;
    meta[SINCE] = 0;
    double raw = (x[THETA_M] - x[THETA_LAST]) / (every * Ts), lag = f[W_LAG];
    x[THETA_LAST] = x[THETA_M];
    x[SPEED_M] += (raw - x[SPEED_M]) * (lag > 0.0 ? fmin(every * Ts / lag, 1.0) : 1.0);
}

static const float UNBOUNDED = 3e38f;

static float pi(const double *f, float ref, float y, float kp, float ki, double *total,
                float limit) {
    float e = ref - y, p = (float)f[C_WEIGHT] * ref - y;
    int rule = (int)f[C_RULE];
    float ahead = rule == RULE_BACKWARD ? ki : rule == RULE_TRAPEZOIDAL ? 0.5f * ki : 0.0f;
    float was = (float)*total, sum = was + ahead * e, u = kp * p + sum;
    float kept = sum + (ki - ahead) * e;
    if (u > limit) { *total = e > 0 ? was : kept; return limit; }
    if (u < -limit) { *total = e < 0 ? was : kept; return -limit; }
    *total = kept;
    return u;
}

static float filtered(const double *f, double *x, float v, int first, int many) {
    for (int n = first; n < first + many; n++) {
        const double *c = f + F_SECTIONS + SECTION_SIZE * n;
        double *kept = x + S_SECTIONS + 2 * n;
        if (c[0] > 0.0) {
            float one = (float)kept[0], two = (float)kept[1], y = (float)c[1] * v + one;
            kept[0] = ((float)c[2] * v - (float)c[4] * y) + two;
            kept[1] = (float)c[3] * v - (float)c[5] * y;
            v = y;
        }
    }
    return v;
}

static float load(const double *f, double *x, float y) {
    float held = (float)x[O_HELD], carried = (float)x[O_CARRIED];
    float followed = (float)x[O_FOLLOWED] + (float)f[O_STEP] * (held + carried);
    float missed = y - followed;
    x[O_FOLLOWED] = followed + (float)f[O_SPEED] * missed;
    x[O_CARRIED] = carried + (float)f[O_LOAD] * missed;
    return (float)x[O_CARRIED];
}

static void speed_controller(const double *f, double *x, double Ts) {
    int every = (int)f[W_EVERY] > 1 ? (int)f[W_EVERY] : 1;
    float y = filtered(f, x, (float)x[SPEED_M], TORQUE_SECTIONS, SPEED_SECTIONS);
    x[SPEED_USED] = y;
    float asked = (float)x[W_REF];
    if (f[W_SHARE] < 1.0) {
        float before = (float)x[ASKED];
        asked = before + (float)f[W_SHARE] * (asked - before);
    }
    x[ASKED] = asked;
    float known = asked > 0.0f ? (float)f[W_FRICTION] : asked < 0.0f ? -(float)f[W_FRICTION] : 0.0f;
    float e = (asked + 0.0f) - y;
    float p = ((float)f[W_WEIGHT] * asked + 0.0f) - y;
    float feed = ((float)f[W_ACCELERATION] * (float)x[A_REF] + known) - load(f, x, y);
    float limit = (float)(f[W_LIMIT] > 0.0 ? f[W_LIMIT] : f[MAX_CURRENT] * 0.9);
    float ki = (float)f[KI_W] * (float)(Ts * every), push = (float)f[KP_W] * p;
    float was = (float)x[SUM_W], sum = was + ki * e, u = (push + sum) + feed;
    if (!(-limit <= u && u <= limit)) {
        int high = u > limit;
        u = high ? limit : -limit;
        if (high ? e > 0 : e < 0) sum = was;
    }
    x[SUM_W] = sum;
    x[PUSH] = u;
    x[O_HELD] = u - known;
}

void drive(const double *p, const double *f, const float *table, int64_t rows, double *x,
           int64_t *meta, double *history, int64_t n) {
    double Ts = p[TS];
    float ts32 = (float)Ts, reach[REACH_SIZE];
    double per_count = 1.0 / p[COUNT], per_bus = 1.0 / p[BUS], part = Ts, per_load = 0.0;
    double of_count = f[F_SIDE] * TAU / f[F_COUNTS];
    if (p[STIFFNESS] > 0.0) {
        part *= 1.0 / SUBSTEPS;
        per_load = part / p[LOAD_INERTIA];
    }
    double per_mass = part / p[INERTIA];
    for (int64_t i = 0; i < n; i++) {
        int64_t clock = meta[CLOCK];
        double bus = p[BUS], m[3];
        if (p[BUS_RIPPLE] != 0.0) bus *= 1.0 + p[BUS_RIPPLE] * sin(TAU * 300.0 * (clock * Ts));
        x[V_BUS] = bus;
        double true_c, true_s;
        sensed(p, f, x, m, meta[SEED], clock, per_count, &true_c, &true_s);
        sensor(p, x);
        x[THETA_M] = of_count * x[COUNTS_AT];
        speed(f, x, meta, history, Ts);
        double high = fmax(fabs(m[0]), fmax(fabs(m[1]), fabs(m[2])));
        if (high > f[TRIP_CURRENT] || bus < f[TRIP_VOLTAGE] || fabs(x[SPEED_M]) > f[MAX_SPEED] ||
            fabs(x[THETA_M] - x[THETA_START]) > f[MAX_TRAVEL] ||
            meta[EXPERIMENT_CLOCK] * Ts > f[MAX_TIME]) { meta[RUNNING] = 3; return; }
        if (meta[ROW_SAMPLE] >= table[meta[ROW] * ROW_SIZE + SAMPLES]) {
            meta[ROW_SAMPLE] = 0;
            if (++meta[ROW] >= rows) { meta[RUNNING] = 2; return; }
        }
        const float *row = table + meta[ROW] * ROW_SIZE;
        int mode = (int)row[MODE];
        double ma = (2.0 * m[0] - m[1] - m[2]) * (1.0 / 3.0), mb = (m[1] - m[2]) * 0.5773502691896258;
        double w_e = x[SPEED_M] * f[F_PAIRS], at = x[THETA_M] * f[F_PAIRS] - f[F_ZERO];
        if (mode == MODE_FIXED) { w_e = row[REF_W]; at = row[ANGLE] + w_e * meta[ROW_SAMPLE] * Ts; }
        x[FRAME_AT] = at;
        x[M_ALPHA] = ma; x[M_BETA] = mb;
        x[X_REF] = x[X_TO] = x[THETA_M] - x[THETA_START];
        double c, s;
        cos_sin(at, &c, &s);
        float y_d = (float)(ma * c + mb * s), y_q = (float)(mb * c - ma * s), r_d = row[REF_D];
        double push = mode == MODE_SPEED ? x[PUSH] : 0.0;
        push = filtered(f, x, (float)push, 0, TORQUE_SECTIONS);
        float r_q = (float)(row[REF_Q] + push);
        x[W_PLAIN] = x[W_REF] = mode == MODE_SPEED ? row[REF_W] : x[SPEED_M];
        x[A_REF] = 0.0;
        x[W_TO] = x[W_REF];
        if (mode != MODE_SPEED) {
            x[ASKED] = x[O_FOLLOWED] = x[SPEED_M];
            x[O_CARRIED] = x[O_HELD] = 0.0;
        }
        if (mode == MODE_SPEED && meta[SINCE] == 0) speed_controller(f, x, Ts);
        if ((double)y_d * y_d + (double)y_q * y_q > f[MAX_CURRENT] * f[MAX_CURRENT]) { meta[RUNNING] = 3; return; }
        float v_max = (float)(bus * 0.5773502691896258);
        int shares = f[C_CIRCLE] > 0.0;
        double held_d = x[SUM_D], held_q = x[SUM_Q];
        float u_d = pi(f, r_d, y_d, (float)f[KP_D], (float)f[KI_D] * ts32, x + SUM_D,
                       shares ? UNBOUNDED : v_max);
        float room = (float)sqrt(fmax((double)v_max * v_max - (double)u_d * u_d, 0.0));
        if (shares) room = UNBOUNDED;
        float u_q = pi(f, r_q, y_q, (float)f[KP_Q], (float)f[KI_Q] * ts32, x + SUM_Q, room);
        double v_d = u_d, v_q = u_q;
        if (f[DECOUPLE] > 0.0 && mode != MODE_FIXED) {
            v_d -= w_e * f[F_LQ] * y_q;
            v_q += w_e * (f[F_LD] * y_d + f[F_PSI]);
        }
        double square = v_d * v_d + v_q * v_q, circle = v_max;
        if (square > circle * circle) {
            if (shares && ((double)r_d - y_d) * v_d > 0.0) x[SUM_D] = held_d;
            if (shares && ((double)r_q - y_q) * v_q > 0.0) x[SUM_Q] = held_q;
            double shorter = circle / sqrt(square);
            v_d *= shorter;
            v_q *= shorter;
        }
        double lead = 1.5 * Ts * w_e, ct, st, out[3];
        cos_sin(lead, &ct, &st);
        double lc = c * ct - s * st, ls = s * ct + c * st;
        double v_alpha = v_d * lc - v_q * ls, v_beta = v_d * ls + v_q * lc, scale = p[BUS_MADE_UP] > 0.0 ? 1.0 : bus * per_bus;
        meta[ROW_SAMPLE]++;
        meta[EXPERIMENT_CLOCK]++;
        if (p[MODULATION] > AVERAGED) switched(p, x, reach); else integrate(p, x, true_c, true_s);
        turn(p, x, row[RELEASE] > 0.0f, per_mass, per_load);
        x[LATE_ALPHA] = x[U_ALPHA]; x[LATE_BETA] = x[U_BETA];
        x[U_ALPHA] = v_alpha; x[U_BETA] = v_beta;
        v_alpha += p[OUTPUT_LATE] * (x[LATE_ALPHA] - v_alpha);
        v_beta += p[OUTPUT_LATE] * (x[LATE_BETA] - v_beta);
        for (int j = 0; j < 3; j++) {
            double turned = j * TAU / 3.0;
            out[(int)p[WIRE_A + j]] = v_alpha * cos(turned) + v_beta * sin(turned);
        }
        x[V_ALPHA] = scale * (1.0 / 3.0) * (2.0 * out[0] - out[1] - out[2]);
        x[V_BETA] = scale * 0.5773502691896258 * (out[1] - out[2]);
        meta[CLOCK]++;
    }
}
