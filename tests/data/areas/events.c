/* Counters of events, timers that are read, signals that are read, and waiting for them. */
#include "tell.h"
#include <poll.h>
#include <sys/eventfd.h>
#include <sys/select.h>
#include <sys/signalfd.h>
#include <sys/timerfd.h>

static void get(const char *what, int fd) {
    uint64_t value = 77;
    long count = tell(what, read(fd, &value, 8));
    if (count == 8)
        printf("= %llu\n", (unsigned long long)value);
}

static void put(const char *what, int fd, uint64_t value) { tell(what, write(fd, &value, 8)); }

int main(void) {
    int e = eventfd(3, EFD_NONBLOCK), s = eventfd(2, EFD_SEMAPHORE | EFD_NONBLOCK);
    get("events", e), get("none", e);
    put("add", e, 5), put("add", e, 6), get("sum", e);
    put("most", e, UINT64_MAX - 1), put("full", e, 1), put("too much", e, UINT64_MAX);
    get("all", e);
    get("one", s), get("two", s), get("no more", s);
    tell("short read", read(e, &(char){0}, 1));
    tell("short write", write(e, "x", 1));
    tell("flags", eventfd(0, 64));
    tell("seek", lseek(e, 0, SEEK_SET));
    tell("pread", pread(e, &(long){0}, 8, 0));

    int t = timerfd_create(CLOCK_MONOTONIC, TFD_NONBLOCK);
    struct itimerspec set = {.it_value = {0, 5000000}}, old;
    get("not set", t);
    tell("set", timerfd_settime(t, 0, &set, NULL));
    get("too early", t);
    struct pollfd ready = {t, POLLIN, 0};
    tell("poll", poll(&ready, 1, -1));
    printf("%d\n", ready.revents);
    get("run out", t), get("once", t);
    set.it_interval.tv_nsec = 1000000;
    tell("again", timerfd_settime(t, 0, &set, &old));
    printf("%ld %ld\n", (long)old.it_value.tv_nsec, (long)old.it_interval.tv_nsec);
    tell("gettime", timerfd_gettime(t, &old));
    printf("%d %ld\n", old.it_value.tv_nsec > 0 && old.it_value.tv_nsec <= 5000000,
           (long)old.it_interval.tv_nsec);
    fcntl(t, F_SETFL, 0);
    uint64_t count = 0;
    tell("blocking", read(t, &count, 8));
    printf("%d\n", count >= 1);
    set.it_value.tv_nsec = 2000000000;
    tell("no time", timerfd_settime(t, 0, &set, NULL));
    tell("flags", timerfd_settime(t, 64, &(struct itimerspec){0}, NULL));
    tell("not one", timerfd_gettime(e, &old));
    tell("clock", timerfd_create(77, 0));
    tell("write", write(t, "12345678", 8));

    sigset_t set2;
    sigemptyset(&set2), sigaddset(&set2, SIGUSR1), sigaddset(&set2, SIGUSR2);
    sigprocmask(SIG_BLOCK, &set2, NULL);
    int f = signalfd(-1, &set2, SFD_NONBLOCK);
    struct signalfd_siginfo info[3];
    tell("none", read(f, info, sizeof info));
    raise(SIGUSR2), kill(getpid(), SIGUSR1);
    tell("two", read(f, info, sizeof info) / (long)sizeof *info);
    printf("%d %d %d %d\n", info[0].ssi_signo, info[0].ssi_code, info[1].ssi_signo, info[1].ssi_code);
    printf("%d %d\n", info[0].ssi_pid == getpid(), info[0].ssi_uid == getuid());
    tell("short", read(f, info, 100));
    tell("not one", signalfd(e, &set2, 0));
    sigqueue(getpid(), SIGUSR1, (union sigval){.sival_int = 240});
    ready.fd = f;
    tell("poll", poll(&ready, 1, 0));
    tell("read", read(f, info, sizeof info) > 0);
    printf("%d %d\n", info[0].ssi_code, info[0].ssi_int);

    fd_set reads, writes;
    FD_ZERO(&reads);
    FD_ZERO(&writes);
    FD_SET(e, &reads);
    FD_SET(e, &writes);
    FD_SET(f, &reads);
    struct timeval soon = {0, 1000};
    tell("select", select(f + 1, &reads, &writes, NULL, &soon));
    printf("%d %d %d\n", FD_ISSET(e, &reads), FD_ISSET(e, &writes), FD_ISSET(f, &reads));
    FD_SET(e, &reads);
    soon.tv_usec = 1000;
    tell("in time", select(e + 1, &reads, NULL, NULL, &soon));
    FD_ZERO(&reads);
    FD_SET(900, &reads);
    tell("closed", select(901, &reads, NULL, NULL, &soon));
    tell("negative", select(-1, NULL, NULL, NULL, &soon));
    soon.tv_sec = -1;
    tell("no time", select(0, NULL, NULL, NULL, &soon));
    tell("pselect", pselect(0, NULL, NULL, NULL, &(struct timespec){0, 1000}, &set2));
    return 0;
}
