/* Reference current controller, and a driver that runs it over a file of errors.
 *
 * The build defines KP, KI, WEIGHT, NEWEST, TS, V_MAX as symbols of the header under test (HEADER).
 * NEWEST is the share of the newest error that the integral holds when the output is worked out:
 * 1 backward, 0 forward, 0.5 trapezoidal rule.
 * Reads two float32 for each step from standard input, the current asked for and the measured one;
 * writes output and integrator.
 * Compile without contraction of a*b + c, or the last bit differs.
 */
#include <stdio.h>
#include HEADER

typedef struct {
    float kp, weight, ahead, behind, v_max, sum;
} pi_t;

static float pi_step(pi_t *c, float asked, float seen)
{
    float e = asked - seen;
    float before = c->ahead * e;
    float sum = c->sum + before;
    float part = c->weight * asked;
    float p = part - seen;
    float proportional = c->kp * p;
    float u = proportional + sum;
    float after = c->behind * e;
    sum = sum + after;
    if (u > c->v_max) {
        u = c->v_max;
        if (e > 0.0f) sum = c->sum;
    } else if (u < -c->v_max) {
        u = -c->v_max;
        if (e < 0.0f) sum = c->sum;
    }
    c->sum = sum;
    return u;
}

int main(void)
{
    pi_t c;
    float in[2], out[2], ki_ts;
    c.kp = (float)(KP);
    ki_ts = (float)(KI) * (float)(TS);
    c.weight = (float)(WEIGHT);
    c.ahead = (float)(NEWEST) * ki_ts;
    c.behind = ki_ts - c.ahead;
    c.v_max = (float)(V_MAX);
    c.sum = 0.0f;
    while (fread(in, sizeof in, 1, stdin) == 1) {
        out[0] = pi_step(&c, in[0], in[1]);
        out[1] = c.sum;
        if (fwrite(out, sizeof out, 1, stdout) != 1) return 1;
    }
    return 0;
}
