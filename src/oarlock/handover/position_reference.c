/* Reference position controller, and a driver that runs it.
 *
 * The build defines KP and SPEED_SHARE as symbols of the header under test (HEADER).
 * Reads two float32 for each step from standard input: how far the shaft is from where it should
 * be, and the profile's speed. Writes the speed asked for and the speed asked ahead, which the
 * speed controller takes as its first two numbers.
 * Compile without contraction of a*b + c, or the last bit differs.
 */
#include <stdio.h>
#include HEADER

typedef struct {
    float kp, speed_share;
} position_t;

static void position_step(const position_t *c, float off, float profile, float out[2])
{
    out[0] = c->kp * off;
    out[1] = c->speed_share * profile;
}

int main(void)
{
    position_t c;
    float in[2], out[2];
    c.kp = (float)(KP);
    c.speed_share = (float)(SPEED_SHARE);
    while (fread(in, sizeof in, 1, stdin) == 1) {
        position_step(&c, in[0], in[1], out);
        if (fwrite(out, sizeof out, 1, stdout) != 1) return 1;
    }
    return 0;
}
