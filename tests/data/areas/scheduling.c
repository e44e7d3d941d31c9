/* Policies, priorities, names and usage. */
#include "tell.h"
#include <sched.h>
#include <sys/personality.h>
#include <sys/prctl.h>
#include <sys/sysinfo.h>
#include <sys/times.h>

int main(void) {
    struct sched_param p = {0}, real = {.sched_priority = 5};
    char name[16] = "";
    struct rusage usage;
    struct sysinfo info;
    struct tms times_;
    tell("policy", sched_getscheduler(0));
    tell("policy of none", sched_getscheduler(999999));
    tell("policy of -1", sched_getscheduler(-1));
    tell("parameters", sched_getparam(0, &p));
    tell("parameters nowhere", sched_getparam(0, NULL));
    tell("set other", sched_setscheduler(0, SCHED_OTHER, &p));
    tell("set batch 5", sched_setscheduler(0, SCHED_BATCH, &real));
    tell("set fifo", sched_setscheduler(0, SCHED_FIFO, &real));
    tell("set fifo 0", sched_setscheduler(0, SCHED_FIFO, &p));
    tell("set 77", sched_setscheduler(0, 77, &p));
    tell("setparam", sched_setparam(0, &p));
    tell("setparam 5", sched_setparam(0, &real));
    for (int policy = -1; policy < 8; policy++)
        if (policy != 4 && policy != 7) {
            tell("max", sched_get_priority_max(policy));
            tell("min", sched_get_priority_min(policy));
        }
    tell("yield", sched_yield());
    tell("getcpu", syscall(SYS_getcpu, NULL, NULL, NULL));
    errno = 0;
    tell("nice", getpriority(PRIO_PROCESS, 0));
    tell("give way", setpriority(PRIO_PROCESS, 0, 5));
    tell("nice", getpriority(PRIO_PROCESS, 0));
    tell("push", setpriority(PRIO_PROCESS, 0, 1));
    tell("far", setpriority(PRIO_PROCESS, getpid(), 100));
    tell("nice", getpriority(PRIO_PROCESS, 0));
    tell("which", getpriority(9, 0));
    tell("who", getpriority(PRIO_PROCESS, 999999));
    tell("set name", prctl(PR_SET_NAME, "keeper of the light"));
    tell("get name", prctl(PR_GET_NAME, name));
    puts(name);
    tell("dumpable", prctl(PR_SET_DUMPABLE, 7));
    tell("privileges", prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0));
    tell("privileges", prctl(PR_GET_NO_NEW_PRIVS, 0, 0, 0, 0));
    tell("no option", prctl(7777, 0, 0, 0, 0));
    tell("usage", getrusage(RUSAGE_SELF, &usage));
    tell("usage of children", getrusage(RUSAGE_CHILDREN, &usage));
    printf("%ld %ld\n", (long)usage.ru_utime.tv_sec, usage.ru_maxrss);
    tell("usage of none", getrusage(5, &usage));
    tell("sysinfo", sysinfo(&info));
    printf("%d %d\n", info.totalram > 0, info.mem_unit > 0);
    tell("times", times(&times_) >= 0);
    tell("membarrier flags", syscall(SYS_membarrier, 0, 77));
    cpu_set_t set;
    CPU_ZERO(&set);
    tell("no processor", sched_setaffinity(0, sizeof set, &set));
    tell("affinity", sched_getaffinity(0, sizeof set, &set));
    printf("%d\n", CPU_ISSET(0, &set) || CPU_COUNT(&set) > 0);
    tell("affinity of none", sched_getaffinity(999999, sizeof set, &set));
    tell("small", syscall(SYS_sched_getaffinity, 0, 3, &set));
    return 0;
}
