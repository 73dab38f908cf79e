/* Start-up: initial data is copied to RAM, the rest zeroed. */
#include <stdint.h>

extern uint32_t data_load[], data_first[], data_end[], bss_first[], bss_end[], stack_top[];
int main(void);

void start(void)
{
	uint32_t *from = data_load;
	for (uint32_t *to = data_first; to < data_end;)
		*to++ = *from++;
	for (uint32_t *to = bss_first; to < bss_end;)
		*to++ = 0;
	main();
}

__attribute__((section(".vectors"), used)) static void *const vectors[] = { stack_top, start };
