/* Start-up for the machines without a library: initial data is copied to RAM,
 * the rest zeroed. */
#include <stdint.h>

extern uint32_t data_load[], data_first[], data_end[], bss_first[], bss_end[], stack_top[];
int main(void);
void start_up(void);

void begin(void)
{
	uint32_t *from = data_load;
	for (uint32_t *to = data_first; to < data_end;)
		*to++ = *from++;
	for (uint32_t *to = bss_first; to < bss_end;)
		*to++ = 0;
	main();
}

#if defined(__arm__)
__attribute__((section(".vectors"), used)) static void *const vectors[] = { stack_top, begin };
#elif defined(__riscv)
__attribute__((section(".vectors"), naked, used)) void start_up(void)
{
	__asm__ volatile("la sp, stack_top\n\tj begin");
}
#endif
