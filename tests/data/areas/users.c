/* Users, groups, process groups, capabilities. */
#include "tell.h"
#include <grp.h>
#include <sys/fsuid.h>
#include <sys/wait.h>

int main(void) {
    uid_t r, e, s;
    gid_t groups[8];
    tell("uid", getuid());
    tell("getresuid", getresuid(&r, &e, &s));
    printf("%u %u %u\n", r, e, s);
    tell("setuid own", setuid(getuid()));
    tell("setuid 0", setuid(0));
    tell("setuid -1", setuid(-1));
    tell("setgid 0", setgid(0));
    tell("setreuid", setreuid(-1, getuid()));
    tell("setreuid 0", setreuid(0, -1));
    tell("setresgid", setresgid(-1, -1, -1));
    tell("setresuid 0", setresuid(0, 0, 0));
    tell("setfsuid", setfsuid(0));
    tell("setgroups", setgroups(0, NULL));
    tell("getgroups -1", getgroups(-1, groups));
    tell("getpgid -1", getpgid(-1));
    tell("getpgid other", getpgid(999999));
    tell("getsid other", getsid(999999));
    tell("setpgid other", setpgid(999999, 0));
    tell("setpgid group -1", setpgid(0, -1));
    tell("own group", getpgrp() == getpgid(0));
    tell("wait4", wait4(-1, NULL, 0, NULL));
    tell("wait4 options", wait4(-1, NULL, 0x10, NULL));
    tell("waitid", waitid(P_ALL, 0, NULL, WEXITED));
    tell("waitid nothing", waitid(P_ALL, 0, NULL, 0));
    tell("waitid kind", waitid(17, 0, NULL, WEXITED));
    tell("chroot", chroot("/") < 0);
    return 0;
}
