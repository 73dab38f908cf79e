/* A tide gauge's application: shows that its initial data was loaded, its
 * zeroed data is zero and its constants are there. */
#include "target.h"

int16_t tide_table[6] = { 12, -7, 31, 44, -19, 2 };
volatile int16_t highest;

#ifdef FAR
/* What lies behind the code, in its own section. */
static const uint8_t far_table[1536] __attribute__((section(".far"), used)) = { [0 ... 1535] = 0x5A };

static uint8_t far_is_whole(void)
{
	for (uint16_t i = 0; i < sizeof far_table; i++)
		if (flash_byte((uint32_t)(uintptr_t)far_table + i) != 0x5A)
			return 0;
	return 1;
}
#else
#define far_is_whole() 1
#endif

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
	send_text(highest == 44 && far_is_whole() ? ", data whole\n" : ", data lost\n");
	for (;;)
		;
}
