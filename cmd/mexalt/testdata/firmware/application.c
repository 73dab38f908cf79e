/* A tide gauge's application: shows that its initial data was loaded, its
 * zeroed data is zero and its constants are there. */
#include "target.h"

int16_t tide_table[6] = { 12, -7, 31, 44, -19, 2 };
volatile int16_t highest;

static const char version[] = "gauge 2.4.1";

int16_t tide_level(uint8_t hour)
{
	return tide_table[hour % 6];
}

int main(void)
{
	for (uint8_t hour = 0; hour < 6; hour++)
		if (tide_level(hour) > highest)
			highest = tide_level(hour);
	send_text("application ");
	send_text(version);
	send_text(highest == 44 ? ", data whole\n" : ", data lost\n");
	for (;;)
		;
}
