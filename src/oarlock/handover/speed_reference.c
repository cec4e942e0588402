/* Reference speed controller with the filters of its torque, and a driver that runs it.
 *
 * The build defines KP, KI, WEIGHT, ACCELERATION, TS, I_MAX, and for up to four filters of the
 * torque F1 to F4, for up to two of the measured speed M1 and M2, as "b0, b1, b2, a1, a2", as
 * symbols of the header under test (HEADER). Options, where they are in use: SHARE of the lag of
 * the speed asked for; FRICTION, A ahead; OBSERVER, the load observer as "step, speed, load".
 * Reads five float32 for each step from standard input: speed asked for, speed asked ahead,
 * acceleration asked for, speed whose side friction has, speed measured. Writes output,
 * integrator, filtered output and the two numbers that the last torque filter keeps; then the
 * filtered speed and what its last filter keeps; then the observer's load and the speed asked
 * for as it was taken.
 * Compile without contraction of a*b + c, or the last bit differs.
 */
#include <stdio.h>
#include HEADER

typedef struct {
    float kp, ki_t, weight, acceleration, friction, i_max, sum;
    float step, speed, load; /* of the load observer */
    float held, followed, carried;
} speed_t;

typedef struct {
    float b0, b1, b2, a1, a2, one, two;
} section_t;

#ifdef SHARE
static float reference_step(float *taken, float asked)
{
    float off = asked - *taken;
    float moved = (float)(SHARE) * off;
    *taken = (float)(SHARE) < 1.0f ? *taken + moved : asked; /* as firmware: 1 is no lag */
    return *taken;
}
#endif

static float load_step(speed_t *c, float seen)
{
    float both = c->held + c->carried;
    float pushed = c->step * both;
    float followed = c->followed + pushed;
    float missed = seen - followed;
    float nearer = c->speed * missed;
    float more = c->load * missed;
    c->followed = followed + nearer;
    c->carried = c->carried + more;
    return c->carried;
}

static float speed_step(speed_t *c, float asked, float ahead, float steep, float turning,
                        float seen)
{
    float whole = asked + ahead;
    float e = whole - seen;
    float weighted = c->weight * asked;
    float part = weighted + ahead;
    float p = part - seen;
    float fed = c->acceleration * steep;
    float against = turning > 0.0f ? c->friction : turning < 0.0f ? -c->friction : 0.0f;
    float known = fed + against;
    float feed = known - load_step(c, seen);
    float push = c->kp * p;
    float integrated = c->ki_t * e;
    float sum = c->sum + integrated;
    float inner = push + sum;
    float u = inner + feed;
    if (u > c->i_max) {
        u = c->i_max;
        if (e > 0.0f) sum = c->sum;
    } else if (u < -c->i_max) {
        u = -c->i_max;
        if (e < 0.0f) sum = c->sum;
    }
    c->sum = sum;
    c->held = u - against; /* friction that is known is no load */
    return u;
}

static float section_step(section_t *f, float x)
{
    float direct = f->b0 * x;
    float y = direct + f->one;
    float near = f->b1 * x;
    float back = f->a1 * y;
    float left = near - back;
    float far = f->b2 * x;
    float behind = f->a2 * y;
    f->one = left + f->two;
    f->two = far - behind;
    return y;
}

static section_t filters[] = {
#ifdef F1
    { F1, 0.0f, 0.0f },
#endif
#ifdef F2
    { F2, 0.0f, 0.0f },
#endif
#ifdef F3
    { F3, 0.0f, 0.0f },
#endif
#ifdef F4
    { F4, 0.0f, 0.0f },
#endif
    { 1.0f, 0.0f, 0.0f, 0.0f, 0.0f, 0.0f, 0.0f }
};

static section_t measured[] = {
#ifdef M1
    { M1, 0.0f, 0.0f },
#endif
#ifdef M2
    { M2, 0.0f, 0.0f },
#endif
    { 1.0f, 0.0f, 0.0f, 0.0f, 0.0f, 0.0f, 0.0f }
};

int main(void)
{
    static const float observer[3] = {
#ifdef OBSERVER
        OBSERVER
#else
        0.0f, 0.0f, 0.0f
#endif
    };
    speed_t c;
    float in[5], out[10];
    unsigned i, last = sizeof filters / sizeof filters[0] - 1;
    unsigned first = sizeof measured / sizeof measured[0] - 1;
    c.kp = (float)(KP);
    c.ki_t = (float)(KI) * (float)(TS);
    c.weight = (float)(WEIGHT);
    c.acceleration = (float)(ACCELERATION);
    c.i_max = (float)(I_MAX);
    c.sum = c.held = c.followed = c.carried = 0.0f;
    c.step = observer[0];
    c.speed = observer[1];
    c.load = observer[2];
#ifdef FRICTION
    c.friction = (float)(FRICTION);
#else
    c.friction = 0.0f;
#endif
    out[9] = 0.0f;
    while (fread(in, sizeof in, 1, stdin) == 1) {
        out[5] = in[4];
#ifdef SHARE
        in[0] = reference_step(&out[9], in[0]);
#else
        out[9] = in[0];
#endif
        for (i = 0; i < first; i++) out[5] = section_step(&measured[i], out[5]);
        out[6] = first ? measured[first - 1].one : 0.0f;
        out[7] = first ? measured[first - 1].two : 0.0f;
        out[0] = speed_step(&c, in[0], in[1], in[2], in[3], out[5]);
        out[8] = c.carried;
        out[1] = c.sum;
        out[2] = out[0];
        for (i = 0; i < last; i++) out[2] = section_step(&filters[i], out[2]);
        out[3] = last ? filters[last - 1].one : 0.0f;
        out[4] = last ? filters[last - 1].two : 0.0f;
        if (fwrite(out, sizeof out, 1, stdout) != 1) return 1;
    }
    return 0;
}
