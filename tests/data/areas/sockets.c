/* Sockets of AF_UNIX and of the computer's own network: in one process, and between processes. */
#include "tell.h"
#include <arpa/inet.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <poll.h>
#include <signal.h>
#include <stddef.h>
#include <sys/ioctl.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/uio.h>
#include <sys/un.h>
#include <sys/wait.h>

static char text[128], large[300000];

static void look(const char *what, int fd, int events) {
    struct pollfd it = {fd, events, 0};
    tell(what, poll(&it, 1, 0));
    printf("%x\n", it.revents);
}

static socklen_t unix_name(struct sockaddr_un *to, const char *name) {
    memset(to, 0, sizeof *to);
    to->sun_family = AF_UNIX;
    strcpy(to->sun_path, name);
    return sizeof *to;
}

static socklen_t hidden_name(struct sockaddr_un *to, const char *name) {
    memset(to, 0, sizeof *to);
    to->sun_family = AF_UNIX;
    strcpy(to->sun_path + 1, name);
    return offsetof(struct sockaddr_un, sun_path) + 1 + strlen(name);
}

static struct sockaddr_in here(int port) {
    struct sockaddr_in to = {AF_INET, htons(port), {htonl(INADDR_LOOPBACK)}};
    return to;
}

static void pairs(void) {
    int p[2], q[2];
    tell("pair", socketpair(AF_UNIX, SOCK_STREAM, 0, p));
    tell("families", socketpair(AF_INET, SOCK_STREAM, 0, q));
    tell("types", socketpair(AF_UNIX, 9, 0, q));
    tell("protocol", socketpair(AF_UNIX, SOCK_STREAM, 7, q));
    tell("no memory", syscall(SYS_socketpair, AF_UNIX, SOCK_STREAM, 0, 8));
    tell("write", write(p[0], "fog bell", 8));
    int left;
    tell("left", ioctl(p[1], FIONREAD, &left));
    printf("%d\n", left);
    tell("peek", recv(p[1], text, 3, MSG_PEEK));
    tell("some", read(p[1], text, 3));
    tell("rest", read(p[1], text + 3, 20));
    printf("%.8s\n", text);
    tell("nothing", recv(p[1], text, 4, MSG_DONTWAIT));
    tell("no bytes", write(p[0], text, 0));
    tell("no bytes", read(p[0], text, 0));
    tell("seek", lseek(p[0], 0, SEEK_SET));
    tell("pread", pread(p[0], text, 1, 0));
    struct stat about;
    tell("stat", fstat(p[0], &about));
    printf("%o %d\n", about.st_mode, (int)about.st_size);
    struct iovec parts[2] = {{"lamp", 4}, {"light", 5}};
    tell("writev", writev(p[1], parts, 2));
    struct iovec into[2] = {{text, 6}, {text + 6, 20}};
    tell("readv", readv(p[0], into, 2));
    printf("%.9s\n", text);
    look("idle", p[0], POLLIN | POLLOUT | POLLRDHUP);
    tell("shut", shutdown(p[1], SHUT_WR));
    tell("shut how", shutdown(p[1], 3));
    look("shut", p[0], POLLIN | POLLOUT | POLLRDHUP);
    look("shut", p[1], POLLIN | POLLOUT | POLLRDHUP);
    tell("end", read(p[0], text, 4));
    tell("broken", write(p[1], "x", 1));
    tell("quiet", send(p[1], "x", 1, MSG_NOSIGNAL));
    tell("other way", write(p[0], "x", 1));
    tell("close", close(p[0]));
    tell("last", read(p[1], text, 4));
    look("closed", p[1], POLLIN | POLLOUT | POLLRDHUP);
    tell("end", read(p[1], text, 4));
    close(p[1]);
    socketpair(AF_UNIX, SOCK_STREAM, 0, p);
    write(p[0], "unread", 6);
    close(p[1]);
    look("reset", p[0], POLLIN | POLLOUT);
    tell("reset", read(p[0], text, 4));
    tell("reset", read(p[0], text, 4));
    tell("reset", send(p[0], "x", 1, MSG_NOSIGNAL));
    close(p[0]);
    socketpair(AF_UNIX, SOCK_STREAM | SOCK_NONBLOCK, 0, p);
    tell("flags", fcntl(p[0], F_GETFL) & O_NONBLOCK);
    tell("empty", read(p[0], text, 4));
    while (write(p[0], large, 4096) > 0)
        ;
    tell("full", write(p[0], large, 4096));
    look("full", p[0], POLLOUT);
    while (read(p[1], large, sizeof large) > 0)
        ;
    look("room", p[0], POLLOUT);
    close(p[0]), close(p[1]);
    tell("sequence", socketpair(AF_UNIX, SOCK_SEQPACKET, 0, p));
    tell("one", send(p[0], "first", 5, 0));
    tell("two", send(p[0], "second", 6, 0));
    tell("cut", recv(p[1], text, 3, 0));
    tell("length", recv(p[1], text, 3, MSG_TRUNC));
    close(p[0]);
    tell("end", recv(p[1], text, 3, 0));
    close(p[1]);
    tell("datagrams", socketpair(AF_UNIX, SOCK_DGRAM, 0, p));
    tell("one", send(p[0], "first", 5, 0));
    tell("none", send(p[0], "", 0, 0));
    tell("cut", recv(p[1], text, 3, MSG_TRUNC));
    tell("none", recv(p[1], text, 3, 0));
    tell("long", send(p[0], large, sizeof large, 0));
    close(p[1]);
    tell("gone", send(p[0], "x", 1, 0));
    tell("gone", send(p[0], "x", 1, 0));
    close(p[0]);
}

static void rights(void) {
    int p[2], q[2], fd;
    socketpair(AF_UNIX, SOCK_STREAM, 0, p);
    pipe(q);
    union { struct cmsghdr head; char bytes[CMSG_SPACE(8)]; } control;
    struct iovec part = {"here", 4};
    struct msghdr message = {0, 0, &part, 1, control.bytes, CMSG_SPACE(4), 0};
    memset(&control, 0, sizeof control);
    control.head.cmsg_level = SOL_SOCKET;
    control.head.cmsg_type = SCM_RIGHTS;
    control.head.cmsg_len = CMSG_LEN(4);
    memcpy(CMSG_DATA(&control.head), &q[1], 4);
    tell("send", sendmsg(p[0], &message, 0));
    close(q[1]);
    write(p[0], "more", 4);
    memset(&control, 0, sizeof control);
    part.iov_base = text, part.iov_len = 20;
    message.msg_controllen = sizeof control;
    tell("receive", recvmsg(p[1], &message, MSG_CMSG_CLOEXEC));
    printf("%x %d %d %d\n", message.msg_flags, (int)message.msg_controllen == CMSG_SPACE(4),
           control.head.cmsg_type, control.head.cmsg_len == CMSG_LEN(4));
    memcpy(&fd, CMSG_DATA(&control.head), 4);
    tell("close on exec", fcntl(fd, F_GETFD));
    tell("write", write(fd, "by it", 5));
    tell("read", read(q[0], text, 20));
    close(fd);
    tell("end", read(q[0], text, 20));
    message.msg_controllen = sizeof control;
    tell("rest", recvmsg(p[1], &message, 0));
    printf("%d\n", (int)message.msg_controllen);
    control.head.cmsg_level = SOL_SOCKET;
    control.head.cmsg_type = SCM_RIGHTS;
    control.head.cmsg_len = CMSG_LEN(4);
    fd = 77;
    memcpy(CMSG_DATA(&control.head), &fd, 4);
    message.msg_controllen = CMSG_SPACE(4);
    tell("bad", sendmsg(p[0], &message, 0));
    control.head.cmsg_len = 3;
    tell("short", sendmsg(p[0], &message, 0));
    int on = 1;
    tell("credentials", setsockopt(p[1], SOL_SOCKET, SO_PASSCRED, &on, sizeof on));
    write(p[0], "who", 3);
    char wide[64];
    message.msg_control = wide, message.msg_controllen = sizeof wide;
    tell("who", recvmsg(p[1], &message, 0));
    struct { int process, user, group; } who;
    struct cmsghdr *head = CMSG_FIRSTHDR(&message);
    memcpy(&who, CMSG_DATA(head), 12);
    printf("%d %d %d\n", head->cmsg_type, who.process == getpid(), who.user == getuid());
    socklen_t length = sizeof who;
    tell("peer", getsockopt(p[0], SOL_SOCKET, SO_PEERCRED, &who, &length));
    printf("%d %d\n", who.process == getpid(), (int)length);
    close(p[0]), close(p[1]), close(q[0]);
}

static void names(void) {
    struct sockaddr_un name, other;
    socklen_t length = sizeof other;
    int server = socket(AF_UNIX, SOCK_STREAM, 0), client = socket(AF_UNIX, SOCK_STREAM, 0);
    look("fresh", server, POLLIN | POLLOUT);
    tell("family", socket(99, SOCK_STREAM, 0));
    tell("type", socket(AF_UNIX, 7, 0));
    tell("flags", socket(AF_UNIX, SOCK_STREAM | 0x100, 0));
    tell("not one", listen(1, 3));
    tell("closed", listen(77, 3));
    tell("no name", listen(server, 3));
    unix_name(&name, "lamp.socket");
    tell("nobody", connect(client, (void *)&name, sizeof name));
    tell("bind", bind(server, (void *)&name, sizeof name));
    tell("bind", bind(server, (void *)&name, sizeof name));
    tell("twice", bind(client, (void *)&name, sizeof name));
    struct stat about;
    umask(022);
    tell("stat", stat("lamp.socket", &about));
    printf("%o\n", about.st_mode & S_IFMT);
    tell("open", open("lamp.socket", O_RDWR));
    tell("refused", connect(client, (void *)&name, sizeof name));
    tell("accept", accept(server, NULL, NULL));
    tell("listen", listen(server, 1));
    look("listening", server, POLLIN | POLLOUT);
    tell("short", connect(client, (void *)&name, 1));
    tell("connect", connect(client, (void *)&name, sizeof name));
    tell("again", connect(client, (void *)&name, sizeof name));
    look("waiting", server, POLLIN | POLLOUT);
    tell("early", write(client, "early", 5));
    int taken = accept(server, (void *)&other, &length);
    tell("accept", taken);
    printf("%d\n", (int)length);
    tell("early", read(taken, text, 20));
    length = sizeof other;
    tell("name", getsockname(taken, (void *)&other, &length));
    printf("%d %s\n", (int)length, other.sun_path);
    length = sizeof other;
    tell("peer", getpeername(client, (void *)&other, &length));
    printf("%d %s\n", (int)length, other.sun_path);
    length = 5;
    tell("cut", getpeername(client, (void *)&other, &length));
    printf("%d\n", (int)length);
    tell("no peer", getpeername(server, (void *)&other, &length));
    tell("receive", recv(server, text, 3, 0));
    tell("send", send(server, text, 3, MSG_NOSIGNAL));
    int fast = socket(AF_UNIX, SOCK_STREAM | SOCK_NONBLOCK, 0), opened = 0;
    tell("one", connect(fast, (void *)&name, sizeof name));
    int third = socket(AF_UNIX, SOCK_STREAM | SOCK_NONBLOCK, 0);
    tell("two", connect(third, (void *)&name, sizeof name));
    int fourth = socket(AF_UNIX, SOCK_STREAM | SOCK_NONBLOCK, 0);
    tell("full", connect(fourth, (void *)&name, sizeof name));
    close(server);
    look("lost", fast, POLLIN | POLLOUT);
    tell("lost", read(fast, text, 4));
    tell("lost", read(third, text, 4));
    tell("lost", read(third, text, 4));
    tell("gone", connect(fourth, (void *)&name, sizeof name));
    tell("still", write(taken, "still", 5));
    tell("still", read(client, text, 20));
    close(client), close(taken), close(fast), close(third), close(fourth);
    tell("unlink", unlink("lamp.socket"));
    server = socket(AF_UNIX, SOCK_DGRAM, 0), client = socket(AF_UNIX, SOCK_DGRAM, 0);
    socklen_t size = hidden_name(&name, "skerry-fog");
    tell("hidden", bind(server, (void *)&name, size));
    tell("twice", bind(client, (void *)&name, size));
    tell("listen", listen(server, 3));
    tell("nobody", send(client, "x", 1, 0));
    tell("to", sendto(client, "horn", 4, 0, (void *)&name, size));
    length = sizeof other;
    tell("from", recvfrom(server, text, 20, 0, (void *)&other, &length));
    printf("%d\n", (int)length);
    other.sun_family = AF_UNIX;
    tell("any name", bind(client, (void *)&other, 2));
    tell("connect", connect(client, (void *)&name, size));
    tell("send", send(client, "horn", 4, 0));
    length = sizeof other;
    tell("from", recvfrom(server, text, 20, 0, (void *)&other, &length));
    printf("%d\n", (int)length);
    tell("back", sendto(server, "bell", 4, 0, (void *)&other, length));
    tell("back", recv(client, text, 20, 0));
    while (send(client, "x", 1, MSG_DONTWAIT) == 1)
        opened++;
    tell("full", send(client, "x", 1, MSG_DONTWAIT));
    look("full", client, POLLOUT);
    printf("%d\n", opened);
    tell("dissolve", connect(client, (void *)&(struct sockaddr){AF_UNSPEC}, 2));
    tell("nobody", send(client, "x", 1, 0));
    close(server);
    tell("gone", sendto(client, "x", 1, 0, (void *)&name, size));
    close(client);
}

static void streams(void) {
    struct sockaddr_in name = here(0), other;
    socklen_t length = sizeof name;
    int on = 1, server = socket(AF_INET, SOCK_STREAM, 0), value = 0;
    look("fresh", server, POLLIN | POLLOUT);
    tell("read", read(server, text, 4));
    tell("send", send(server, text, 4, MSG_NOSIGNAL));
    close(server);
    server = socket(AF_INET, SOCK_STREAM, 0);
    tell("shut", shutdown(socket(AF_INET, SOCK_STREAM, 0), SHUT_WR));
    tell("reuse", setsockopt(server, SOL_SOCKET, SO_REUSEADDR, &on, sizeof on));
    tell("far", bind(server, (void *)&(struct sockaddr_in){AF_INET, 0, {htonl(0x0a010203)}}, sizeof name));
    tell("short", bind(server, (void *)&name, 8));
    tell("bind", bind(server, (void *)&name, sizeof name));
    tell("again", bind(server, (void *)&name, sizeof name));
    tell("name", getsockname(server, (void *)&name, &length));
    printf("%d %x %d\n", (int)length, ntohl(name.sin_addr.s_addr), name.sin_port != 0);
    int second = socket(AF_INET, SOCK_STREAM, 0);
    tell("in use", bind(second, (void *)&name, sizeof name));
    tell("refused", connect(second, (void *)&name, sizeof name));
    tell("listen", listen(server, 8));
    tell("connect", connect(second, (void *)&name, sizeof name));
    tell("again", connect(second, (void *)&name, sizeof name));
    int taken = accept4(server, (void *)&other, &length, SOCK_NONBLOCK | SOCK_CLOEXEC);
    tell("accept", taken);
    printf("%x %d %d\n", ntohl(other.sin_addr.s_addr), fcntl(taken, F_GETFD), fcntl(taken, F_GETFL));
    tell("nodelay", setsockopt(taken, IPPROTO_TCP, TCP_NODELAY, &on, sizeof on));
    length = sizeof value;
    tell("nodelay", getsockopt(taken, IPPROTO_TCP, TCP_NODELAY, &value, &length));
    tell("type", getsockopt(taken, SOL_SOCKET, SO_TYPE, &value, &length));
    printf("%d\n", value);
    tell("listens", getsockopt(server, SOL_SOCKET, SO_ACCEPTCONN, &value, &length));
    printf("%d\n", value);
    tell("option", getsockopt(server, SOL_SOCKET, 999, &value, &length));
    tell("level", setsockopt(server, 999, 1, &on, sizeof on));
    tell("empty", read(taken, text, 20));
    tell("write", write(second, "tide table", 10));
    struct pollfd it = {taken, POLLIN, 0};
    tell("wait", poll(&it, 1, 1000));
    tell("read", read(taken, text, 4));
    tell("all", recv(taken, text, 6, MSG_WAITALL));
    struct timeval time = {0, 20000};
    tell("time", setsockopt(second, SOL_SOCKET, SO_RCVTIMEO, &time, sizeof time));
    tell("late", recv(second, text, 6, 0));
    tell("shut", shutdown(second, SHUT_WR));
    it.events = POLLIN | POLLRDHUP;
    tell("wait", poll(&it, 1, 1000));
    printf("%x\n", it.revents);
    tell("end", read(taken, text, 6));
    tell("half", write(taken, "half", 4));
    tell("half", recv(second, text, 4, MSG_WAITALL));
    tell("close", close(taken));
    tell("end", read(second, text, 6));
    look("over", second, POLLIN | POLLOUT);
    close(second);
    second = socket(AF_INET, SOCK_STREAM | SOCK_NONBLOCK, 0);
    tell("begin", connect(second, (void *)&name, sizeof name));
    it.fd = second, it.events = POLLOUT;
    tell("wait", poll(&it, 1, 1000));
    printf("%x\n", it.revents);
    length = sizeof value;
    tell("error", getsockopt(second, SOL_SOCKET, SO_ERROR, &value, &length));
    printf("%d\n", value);
    taken = accept(server, NULL, NULL);
    write(second, "lost", 4);
    it.fd = taken, it.events = POLLIN;
    poll(&it, 1, 1000);
    close(taken);
    it.fd = second;
    tell("reset", poll(&it, 1, 1000));
    tell("reset", read(second, text, 4));
    tell("reset", read(second, text, 4));
    tell("reset", send(second, text, 4, MSG_NOSIGNAL));
    close(second), close(server);
    second = socket(AF_INET, SOCK_STREAM | SOCK_NONBLOCK, 0);
    tell("begin", connect(second, (void *)&name, sizeof name));
    it.fd = second, it.events = POLLOUT;
    tell("wait", poll(&it, 1, 1000));
    printf("%x\n", it.revents);
    tell("error", getsockopt(second, SOL_SOCKET, SO_ERROR, &value, &length));
    printf("%d\n", value == ECONNREFUSED);
    close(second);
}

static void datagrams(void) {
    struct sockaddr_in name = here(0), other;
    socklen_t length = sizeof name;
    int server = socket(AF_INET, SOCK_DGRAM, 0), client = socket(AF_INET, SOCK_DGRAM, 0);
    tell("bind", bind(server, (void *)&name, sizeof name));
    getsockname(server, (void *)&name, &length);
    look("idle", server, POLLIN | POLLOUT);
    tell("nobody", send(client, "x", 1, 0));
    tell("to", sendto(client, "north", 5, 0, (void *)&name, sizeof name));
    tell("to", sendto(client, "", 0, 0, (void *)&name, sizeof name));
    tell("from", recvfrom(server, text, 3, 0, (void *)&other, &length));
    printf("%d %x\n", (int)length, ntohl(other.sin_addr.s_addr));
    tell("none", recv(server, text, 3, 0));
    tell("back", sendto(server, "south", 5, 0, (void *)&other, length));
    tell("back", recv(client, text, 20, 0));
    tell("connect", connect(client, (void *)&name, sizeof name));
    tell("send", write(client, "east", 4));
    tell("read", read(server, text, 20));
    tell("long", sendto(client, large, 70000, 0, NULL, 0));
    tell("listen", listen(server, 3));
    close(server);
    tell("lost", send(client, "x", 1, 0));
    tell("refused", send(client, "x", 1, 0));
    tell("time", setsockopt(client, SOL_SOCKET, SO_RCVTIMEO, &(struct timeval){0, 1000}, sizeof(struct timeval)));
    recv(client, text, 1, 0);
    tell("late", recv(client, text, 1, 0));
    close(client);
    int s = socket(AF_INET, SOCK_DGRAM, 0), c = socket(AF_INET, SOCK_DGRAM, 0);
    name = here(0);
    bind(s, (void *)&name, sizeof name);
    getsockname(s, (void *)&name, &length);
    connect(c, (void *)&name, sizeof name);
    struct iovec parts[3] = {{"one", 3}, {"two", 3}, {"three", 5}};
    struct mmsghdr many[3] = {{{0, 0, parts, 1}}, {{0, 0, parts + 1, 1}}, {{0, 0, parts + 1, 2}}};
    tell("many", sendmmsg(c, many, 3, 0));
    printf("%d %d %d\n", many[0].msg_len, many[1].msg_len, many[2].msg_len);
    char into[3][16];
    for (int i = 0; i < 3; i++)
        parts[i] = (struct iovec){into[i], 16}, many[i] = (struct mmsghdr){{0, 0, parts + i, 1}};
    tell("many", recvmmsg(s, many, 3, MSG_WAITFORONE, NULL));
    printf("%d %d %d\n", many[0].msg_len, many[1].msg_len, many[2].msg_len);
    close(s), close(c);
}

/* A server that answers three clients, each a process of its own. */
static void served(int family) {
    struct sockaddr_in port = here(0);
    struct sockaddr_un path;
    unix_name(&path, "keeper.socket");
    struct sockaddr *name = family == AF_UNIX ? (void *)&path : (void *)&port;
    socklen_t size = family == AF_UNIX ? sizeof path : sizeof port;
    int server = socket(family, SOCK_STREAM, 0), sum = 0, status, bytes;
    tell("bind", bind(server, name, size));
    tell("listen", listen(server, 8));
    if (family == AF_INET)
        getsockname(server, name, &size);
    for (int client = 0; client < 3; client++)
        if (!fork()) {
            int fd = socket(family, SOCK_STREAM, 0), got = 0;
            if (connect(fd, name, size))
                _exit(1);
            memset(large, 'a' + client, sizeof large);
            if (write(fd, large, sizeof large) != sizeof large)
                _exit(2);
            shutdown(fd, SHUT_WR);
            if (recv(fd, &got, 4, MSG_WAITALL) != 4 || got != (int)sizeof large)
                _exit(3);
            _exit(read(fd, text, 1) == 0 ? 0 : 4);
        }
    for (int client = 0; client < 3; client++) {
        int fd = accept(server, NULL, NULL), got = 0;
        while ((bytes = read(fd, large, 10000)) > 0)
            got += bytes, sum += large[0] == large[bytes - 1];
        write(fd, &got, 4);
        close(fd);
    }
    for (int client = 0; client < 3; client++)
        tell("client", wait(&status) > 0 ? status : -1);
    printf("%d\n", sum > 0);
    close(server);
    unlink("keeper.socket");
}

int main(void) {
    setvbuf(stdout, NULL, _IONBF, 0);
    alarm(20);
    signal(SIGPIPE, SIG_IGN);
    pairs();
    rights();
    names();
    streams();
    datagrams();
    served(AF_UNIX);
    served(AF_INET);
    return 0;
}
