/* Thruster, current control and hall table. Maintained by hand until now. */
#ifndef THRUSTER_GAINS_H
#define THRUSTER_GAINS_H

/* current loop: 20 kHz, parallel PI */
#define CUR_TS        50e-6f     /* s */
#define CUR_V_MAX     27.0f      /* V, phase peak */
#define CUR_KP_D      0.20f      /* V/A */
#define CUR_KP_Q      0.20f      /* V/A */
#define CUR_KI_D      210.0f     /* V/(A s) */
#define CUR_KI_Q      210.0f     /* V/(A s) */
#define CUR_OFFSET_A  0.0f       /* counts, from mid-scale */
#define CUR_OFFSET_B  0.0f
#define CUR_OFFSET_C  0.0f

/* electrical angle (rad) at which each hall state begins, taken for even steps */
#define HALL_START_5  0.5235988f
#define HALL_START_1  1.5707963f
#define HALL_START_3  2.6179939f
#define HALL_START_2  3.6651914f
#define HALL_START_6  4.7123890f
#define HALL_START_4  5.7595865f

#endif
