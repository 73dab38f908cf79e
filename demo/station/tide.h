#ifndef TIDE_H
#define TIDE_H

#include <stdint.h>

extern const int32_t surge_mm;

/* Foretells the height of the tide in millimetres, seconds after the station's
 * epoch. */
int32_t tide_height(uint32_t seconds);

#endif
