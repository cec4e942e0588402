/* Reference current controller, and a driver that runs it over a file of errors.
 *
 * The build defines KP, KI, TS, V_MAX as symbols of the header under test (HEADER).
 * Reads float32 errors from standard input; writes output and integrator for each.
 * Compile without contraction of a*b + c, or the last bit differs.
 */
#include <stdio.h>
#include HEADER

typedef struct {
    float kp, ki_ts, v_max, sum;
} pi_t;

static float pi_step(pi_t *c, float e)
{
    float integrated = c->ki_ts * e;
    float sum = c->sum + integrated;
    float proportional = c->kp * e;
    float u = proportional + sum;
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
    float e, out[2];
    c.kp = (float)(KP);
    c.ki_ts = (float)(KI) * (float)(TS);
    c.v_max = (float)(V_MAX);
    c.sum = 0.0f;
    while (fread(&e, sizeof e, 1, stdin) == 1) {
        out[0] = pi_step(&c, e);
        out[1] = c.sum;
        if (fwrite(out, sizeof out, 1, stdout) != 1) return 1;
    }
    return 0;
}
