/* Extended attributes, as far as every file system has them. */
#include "tell.h"
#include <sys/xattr.h>

int main(void) {
    char value[64];
    int fd = open("log", O_RDWR | O_CREAT, 0600);
    tell("no name", setxattr("log", "", "x", 1, 0));
    tell("long name", setxattr("log", (memset(value, 'u', 63), value[63] = 0, value), "x", 1, 0));
    tell("no class", setxattr("log", "bell.fog", "x", 1, 0));
    tell("flags", setxattr("log", "user.fog", "x", 1, 8));
    tell("too large", setxattr("log", "user.fog", value, 70000, 0));
    tell("none there", setxattr("none", "user.fog", "x", 1, 0));
    tell("bad descriptor", fsetxattr(99, "user.fog", "x", 1, 0));
    tell("trusted", setxattr("log", "trusted.fog", "x", 1, 0));
    tell("get of trusted", getxattr("log", "trusted.fog", value, 64));
    tell("list", listxattr("log", value, 0));
    tell("list of none", listxattr("none", value, 64));
    tell("list by descriptor", flistxattr(fd, value, 64));
    return 0;
}
