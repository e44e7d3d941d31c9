/* Limits of a process. */
#include "tell.h"

int main(void) {
    struct rlimit limit, files;
    tell("stack", getrlimit(RLIMIT_STACK, &limit));
    printf("%llu\n", (unsigned long long)limit.rlim_cur);
    tell("none", getrlimit(77, &limit));
    tell("files", getrlimit(RLIMIT_NOFILE, &files));
    limit.rlim_cur = 5;
    limit.rlim_max = files.rlim_max;
    tell("lower", setrlimit(RLIMIT_NOFILE, &limit));
    tell("open", open("/dev/null", O_RDONLY));
    tell("open", open("/dev/null", O_RDONLY));
    tell("open", open("/dev/null", O_RDONLY));
    tell("dup", dup(0));
    limit.rlim_cur = 10;
    tell("raise", setrlimit(RLIMIT_NOFILE, &limit));
    tell("open", open("/dev/null", O_RDONLY));
    limit.rlim_cur = 20;
    limit.rlim_max = 10;
    tell("crossed", setrlimit(RLIMIT_NOFILE, &limit));
    limit.rlim_cur = 10;
    tell("lower hard", setrlimit(RLIMIT_NOFILE, &limit));
    limit.rlim_max = 11;
    tell("raise hard", setrlimit(RLIMIT_NOFILE, &limit));
    tell("other process", prlimit(999999, RLIMIT_NOFILE, NULL, &limit));
    tell("both", prlimit(0, RLIMIT_NOFILE, NULL, &limit));
    printf("%ld %ld\n", (long)limit.rlim_cur, (long)limit.rlim_max);
    return 0;
}
