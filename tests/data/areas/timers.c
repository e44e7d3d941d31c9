/* Timers that send signals. */
#include "tell.h"
#include <sys/time.h>

static volatile int rings, code, value;

static void ring(int number, siginfo_t *info, void *context) {
    (void)number, (void)context;
    rings++, code = info->si_code, value = info->si_value.sival_int;
}

int main(void) {
    struct sigaction action = {.sa_sigaction = ring, .sa_flags = SA_SIGINFO};
    sigaction(SIGALRM, &action, NULL), sigaction(SIGRTMIN, &action, NULL);
    sigaction(SIGVTALRM, &action, NULL), sigaction(SIGPROF, &action, NULL);
    timer_t timer;
    struct sigevent event = {.sigev_notify = SIGEV_SIGNAL, .sigev_signo = SIGRTMIN, .sigev_value.sival_int = 240};
    tell("create", timer_create(CLOCK_MONOTONIC, &event, &timer));
    struct itimerspec set = {.it_value = {0, 2000000}}, old = {0};
    tell("settime", timer_settime(timer, 0, &set, NULL));
    while (!rings)
        pause();
    printf("%d %d %d\n", rings, code, value);
    tell("gettime", timer_gettime(timer, &old));
    printf("%ld\n", (long)old.it_value.tv_nsec);
    tell("overrun", timer_getoverrun(timer));
    tell("delete", timer_delete(timer));
    event.sigev_signo = 99;
    tell("signal", timer_create(CLOCK_MONOTONIC, &event, &timer));
    event.sigev_notify = 9;
    tell("notify", timer_create(CLOCK_MONOTONIC, &event, &timer));
    tell("clock", timer_create(77, NULL, &timer));
    tell("default", timer_create(CLOCK_REALTIME, NULL, &timer));
    set.it_value.tv_nsec = -1;
    tell("no time", timer_settime(timer, 0, &set, NULL));
    clock_gettime(CLOCK_REALTIME, &set.it_value);
    set.it_value.tv_sec -= 10;
    rings = 0;
    tell("in the past", timer_settime(timer, TIMER_ABSTIME, &set, NULL));
    while (!rings)
        pause();
    printf("%d %d\n", rings, code);
    struct itimerval work = {.it_value = {0, 3000}}, left;
    rings = 0;
    tell("virtual", setitimer(ITIMER_VIRTUAL, &work, NULL));
    while (!rings)
        ;
    printf("%d %d\n", rings, code);
    tell("profiling", setitimer(ITIMER_PROF, &work, NULL));
    while (rings < 2)
        ;
    tell("left", getitimer(ITIMER_PROF, &left));
    printf("%ld %ld\n", (long)left.it_value.tv_sec, (long)left.it_value.tv_usec);
    tell("none", setitimer(7, &work, NULL));
    work.it_value.tv_usec = 1000000;
    tell("no time", setitimer(ITIMER_REAL, &work, NULL));
    struct timespec resolution;
    tell("resolution", clock_getres(CLOCK_MONOTONIC, &resolution));
    printf("%ld %ld\n", (long)resolution.tv_sec, resolution.tv_nsec);
    tell("of none", clock_getres(99, &resolution));
    tell("set clock", clock_settime(CLOCK_REALTIME, &resolution));
    tell("set monotonic", clock_settime(CLOCK_MONOTONIC, &resolution));
    tell("time", time(NULL) > 1700000000);
    return 0;
}
