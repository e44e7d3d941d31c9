/* Processes: making them, waiting for them, signals between them, groups and sessions, and executing programs. */
#include "tell.h"
#include <sched.h>
#include <signal.h>
#include <spawn.h>
#include <sys/mman.h>
#include <sys/wait.h>
#include <time.h>

static char *program;
static volatile int children;
static void child_changed(int number, siginfo_t *about, void *unused) { children++; }

static void status_of(const char *what, pid_t pid, int options) {
    int status = 0;
    pid_t got = waitpid(pid, &status, options);
    printf("%s: %s", what, got == -1 ? strerror(errno) : got == 0 ? "none" : "it");
    if (got > 0)
        printf(" %d %d %d %d %d %d", WIFEXITED(status), WEXITSTATUS(status), WIFSIGNALED(status), WTERMSIG(status) & 127,
               WIFSTOPPED(status), WIFSTOPPED(status) ? WSTOPSIG(status) : 0);
    printf("\n");
}

static pid_t child(void (*work)(void)) {
    pid_t pid = fork();
    if (!pid) {
        work();
        _exit(0);
    }
    return pid;
}

static void seven(void) { _exit(7); }
static void big(void) { _exit(0x1234); }
static void fault(void) { *(volatile int *)8 = 1; }
static void stop_it(void) { abort(); }
static void sleep_long(void) { pause(); }
static void nothing(void) {}
static void term(void) { raise(SIGTERM); }
static void stop_self(void) { raise(SIGSTOP), _exit(9); }
static void ignore_term(void) {
    signal(SIGTERM, SIG_IGN);
    raise(SIGTERM);
    _exit(4);
}
static void nap(void) { usleep(3000), _exit(6); }
static int *shared;
static void add(void) {
    for (int i = 0; i < 1000; i++)
        __atomic_add_fetch(shared, 1, __ATOMIC_SEQ_CST);
}
static int private_value = 1;
static void change(void) { private_value = 2, _exit(private_value); }
static void own_group(void) { _exit(setpgid(0, 0) == 0 && getpgrp() == getpid() ? 1 : 2); }
static void own_session(void) { _exit(setsid() == getpid() && getsid(0) == getpid() && setsid() == -1 ? 1 : 2); }
static void grandchild(void) {
    if (!fork())
        usleep(1000), _exit(0);
    _exit(3);
}

/* Milliseconds of the processor that this process had. */
static long used(void) {
    struct timespec now;
    clock_gettime(CLOCK_PROCESS_CPUTIME_ID, &now);
    return now.tv_sec * 1000 + now.tv_nsec / 1000000;
}

static long milliseconds(struct rusage *usage) {
    return (usage->ru_utime.tv_sec + usage->ru_stime.tv_sec) * 1000
           + (usage->ru_utime.tv_usec + usage->ru_stime.tv_usec) / 1000;
}

/* Each process has a clock of its own, and parents are told of those that they waited for. */
static void clocks(void) {
    struct rusage usage, before;
    int status;
    getrusage(RUSAGE_CHILDREN, &before);
    while (used() < 12)
        ;
    pid_t child = fork();
    if (!child) {
        int is_fresh = used() < 6;
        while (used() < 9)
            ;
        _exit(is_fresh);
    }
    wait4(child, &status, 0, &usage);
    printf("fresh %d, used %d\n", WEXITSTATUS(status), milliseconds(&usage) >= 8);
    getrusage(RUSAGE_CHILDREN, &usage);
    printf("children %d\n", milliseconds(&usage) - milliseconds(&before) >= 8);
}

int main(int count, char **words) {
    setvbuf(stdout, NULL, _IONBF, 0);
    program = words[0];
    if (count > 1 && !strcmp(words[1], "again")) {
        printf("executed with %d:", count);
        for (int i = 1; i < count; i++)
            printf(" %s", words[i]);
        printf(" and %s\n", getenv("LAMP") ? getenv("LAMP") : "nothing");
        sigset_t mask;
        struct sigaction action, other;
        sigprocmask(SIG_BLOCK, NULL, &mask);
        sigaction(SIGUSR1, NULL, &action), sigaction(SIGUSR2, NULL, &other);
        printf("%d %d %d %d %d\n", sigismember(&mask, SIGHUP), action.sa_handler == SIG_DFL, other.sa_handler == SIG_IGN,
               fcntl(50, F_GETFD), fcntl(51, F_GETFD));
        return 11;
    }
    status_of("no children", -1, 0);
    status_of("nobody", 1, 0);
    pid_t pid = child(seven);
    status_of("exited", pid, 0);
    status_of("once", pid, 0);
    status_of("low bits", child(big), 0);
    status_of("fault", child(fault), 0);
    status_of("abort", child(stop_it), 0);
    status_of("raised", child(term), 0);
    status_of("ignored", child(ignore_term), 0);
    pid = child(sleep_long);
    status_of("not yet", pid, WNOHANG);
    tell("kill", kill(pid, SIGKILL));
    status_of("killed", pid, 0);
    tell("kill nobody", kill(pid, 0));
    status_of("any", (child(seven), -1), 0);
    status_of("own group", (child(seven), 0), 0);
    status_of("after a while", child(nap), 0);
    tell("bad options", waitpid(-1, NULL, 0x100));
    tell("no status", waitpid(child(seven), NULL, 0) > 0);
    for (int i = 0; i < 3; i++)
        child(seven);
    int reaped = 0;
    while (wait(NULL) > 0)
        reaped++;
    printf("%d\n", reaped);

    /* Stopping and going on. */
    pid = child(stop_self);
    status_of("stopped", pid, WUNTRACED);
    status_of("told once", pid, WUNTRACED | WNOHANG);
    tell("continue", kill(pid, SIGCONT));
    status_of("then exited", pid, 0);
    pid = child(sleep_long);
    tell("stop", kill(pid, SIGSTOP));
    status_of("stopped", pid, WUNTRACED);
    tell("term", kill(pid, SIGTERM));
    status_of("not yet", pid, WNOHANG);
    tell("continue", kill(pid, SIGCONT));
    status_of("term", pid, 0);

    /* What waitid tells. */
    siginfo_t about;
    memset(&about, 1, sizeof about);
    pid = child(seven);
    tell("nowait", waitid(P_PID, pid, &about, WEXITED | WNOWAIT));
    printf("%d %d %d %d\n", about.si_signo, about.si_code, about.si_status, about.si_pid == pid);
    tell("waitid", waitid(P_ALL, 0, &about, WEXITED));
    tell("none", waitid(P_ALL, 0, &about, WEXITED));
    tell("no options", waitid(P_ALL, 0, &about, 0));
    pid = child(sleep_long);
    tell("none yet", waitid(P_PID, pid, &about, WEXITED | WNOHANG));
    printf("%d %d\n", about.si_signo, about.si_pid);
    kill(pid, SIGUSR1);
    tell("waitid", waitid(P_PID, pid, &about, WEXITED));
    printf("%d %d\n", about.si_code, about.si_status);

    /* The signal of a child. */
    struct sigaction action = {.sa_sigaction = child_changed, .sa_flags = SA_SIGINFO | SA_RESTART};
    sigaction(SIGCHLD, &action, NULL);
    status_of("with a handler", child(nap), 0);
    printf("%d\n", children);
    sigset_t set, old;
    sigemptyset(&set), sigaddset(&set, SIGCHLD);
    sigprocmask(SIG_BLOCK, &set, &old);
    pid = child(seven);
    tell("signal of the child", sigwaitinfo(&set, &about));
    printf("%d %d %d\n", about.si_code, about.si_status, about.si_pid == pid);
    sigprocmask(SIG_SETMASK, &old, NULL);
    status_of("and waited for", pid, 0);
    signal(SIGCHLD, SIG_IGN);
    pid = child(seven);
    status_of("nobody is left", pid, 0);
    signal(SIGCHLD, SIG_DFL);

    /* Memory that is shared, and memory that is not. */
    shared = mmap(NULL, 4096, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
    pid_t adders[3];
    for (int i = 0; i < 3; i++)
        adders[i] = child(add);
    add();
    for (int i = 0; i < 3; i++)
        waitpid(adders[i], NULL, 0);
    printf("%d\n", *shared);
    status_of("change", child(change), 0);
    printf("%d\n", private_value);

    /* Groups and sessions. */
    status_of("group", child(own_group), 0);
    status_of("session", child(own_session), 0);
    pid = child(sleep_long);
    tell("group of a child", setpgid(pid, pid));
    tell("it", getpgid(pid) == pid);
    status_of("not in this group", 0, WNOHANG);
    tell("kill the group", kill(-pid, SIGTERM));
    status_of("term", pid, 0);
    tell("group of nobody", setpgid(99999, 0));
    tell("bad group", setpgid(0, -1));
    status_of("leaves a grandchild", child(grandchild), 0);

    /* Executing. */
    tell("no program", execl("/nowhere", "x", NULL));
    tell("no program", execl("/etc", "x", NULL));
    tell("not to be executed", execl("/etc/passwd", "x", NULL));
    tell("no name", execl("", "x", NULL));
    int script = open("script", O_CREAT | O_WRONLY, 0755);
    dprintf(script, "#!%s again\n", program);
    close(script);
    int plain = open("plain", O_CREAT | O_WRONLY, 0755);
    dprintf(plain, "fog\n");
    close(plain);
    tell("no format", execl("./plain", "plain", NULL));
    signal(SIGUSR1, (void (*)(int))child_changed), signal(SIGUSR2, SIG_IGN);
    sigaddset(&set, SIGHUP), sigprocmask(SIG_SETMASK, &set, NULL);
    dup2(1, 50), dup2(1, 51), fcntl(51, F_SETFD, FD_CLOEXEC);
    if (!(pid = fork())) {
        char *const words[] = {"any name", "again", "bell", NULL}, *const with[] = {"LAMP=lit", NULL};
        execve(program, words, with);
        _exit(1);
    }
    status_of("executed", pid, 0);
    if (!(pid = fork())) {
        execl("./script", "script", "more", NULL);
        _exit(1);
    }
    status_of("script", pid, 0);
    if (!(pid = vfork())) {
        execl(program, "x", "again", NULL);
        _exit(1);
    }
    status_of("after vfork", pid, 0);
    char *const spawned[] = {"x", "again", "spawned", NULL}, *const with[] = {NULL};
    /* The child may write before this process goes on, or behind that. */
    int failed = posix_spawn(&pid, program, NULL, NULL, spawned, with);
    status_of("spawned", pid, 0);
    tell("spawn", failed);
    tell("spawn nothing", posix_spawn(&pid, "/nowhere", NULL, NULL, spawned, with));
    unlink("script"), unlink("plain");
    clocks();
    return 0;
}
