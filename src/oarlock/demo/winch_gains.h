/* Sonar winch, current control. Maintained by hand until now. */
#ifndef WINCH_GAINS_H
#define WINCH_GAINS_H

/* current loop: 16 kHz, parallel PI */
#define CUR_TS        62.5e-6f   /* s */
#define CUR_V_MAX     180.0f     /* V, phase peak */
#define CUR_KP_D      31.5f      /* V/A */
#define CUR_KP_Q      58.6f      /* V/A */
#define CUR_KI_D      3232.0f    /* V/(A s) */
#define CUR_KI_Q      3237.0f    /* V/(A s) */
#define CUR_OFFSET_A  0.0f       /* counts, from mid-scale */
#define CUR_OFFSET_B  0.0f
#define CUR_OFFSET_C  0.0f
#define CUR_TRACK     8192       /* anti-windup tracking, not Oarlock's */

/* speed loop: each tenth sample; its one filter passed everything until now */
#define SPD_TS        625e-6f    /* s */
#define SPD_I_MAX     20.0f      /* A */
#define SPD_KP        0.45f      /* A s/rad */
#define SPD_KI        4.0f       /* A/rad */
#define SPD_WEIGHT    1.0f
#define SPD_TORQUE1_B0  1.0f
#define SPD_TORQUE1_B1  0.0f
#define SPD_TORQUE1_B2  0.0f
#define SPD_TORQUE1_A1  0.0f
#define SPD_TORQUE1_A2  0.0f

/* resolver, two rounds a turn */
#define ANGLE_SIDE           1.0f
#define ANGLE_ZERO           0.0f   /* rad, electrical: found by trial, never noted */
#define ANGLE_SINE_OFFSET    0.0f
#define ANGLE_COSINE_OFFSET  0.0f
#define ANGLE_SINE_RATIO     1.0f
#define ANGLE_SKEW           0.0f   /* rad */

#if 0
#define CUR_KP_Q      12.0f      /* first light, kept for the record */
#endif

#endif
