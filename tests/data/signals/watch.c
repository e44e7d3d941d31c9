/* Signals as a program sees them: each scene tells what happened. */
#define _GNU_SOURCE
#include <errno.h>
#include <setjmp.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/syscall.h>
#include <sys/time.h>
#include <time.h>
#include <ucontext.h>
#include <unistd.h>

static volatile int seen[80], count, depth;
static sigjmp_buf back;
static char *page;
static char stack[65536];

static void tell(const char *what, long a, long b) { printf("%s %ld %ld\n", what, a, b); }

static void plain(int number) {
    seen[count++] = number;
}

static void nested(int number) {
    seen[count++] = 100 * depth + number;
    if (number == SIGUSR1) {
        depth++;
        raise(SIGUSR2);
        if (count < 4)
            raise(SIGUSR1);
        depth--;
        seen[count++] = 1000;
    }
}

static void with_info(int number, siginfo_t *info, void *context) {
    ucontext_t *uc = context;
    seen[count++] = number;
    seen[count++] = info->si_signo;
    seen[count++] = info->si_code;
    seen[count++] = info->si_errno;
    seen[count++] = number == SIGSEGV ? (char *)info->si_addr == page : info->si_pid == getpid();
    seen[count++] = number == SIGRTMIN ? info->si_value.sival_int : 0;
    seen[count++] = sigismember(&uc->uc_sigmask, SIGUSR2);
}

static void mend(int number, siginfo_t *info, void *context) {
    seen[count++] = number;
    mprotect(page, 4096, PROT_READ | PROT_WRITE);
}

static void jump(int number) { siglongjmp(back, number); }

static void on_stack(int number) {
    char here;
    seen[count++] = &here >= stack && &here < stack + sizeof stack;
    stack_t now;
    sigaltstack(NULL, &now);
    seen[count++] = now.ss_flags;
}

static void show(const char *scene) {
    printf("%s:", scene);
    for (int n = 0; n < count; n++)
        printf(" %d", seen[n]);
    printf("\n");
    count = 0;
}

static void catch(int number, void (*handler)(int), int flags) {
    struct sigaction action;
    memset(&action, 0, sizeof action);
    action.sa_handler = handler;
    action.sa_flags = flags;
    tell("sigaction", sigaction(number, &action, NULL), 0);
}

static void catch_info(int number, void (*handler)(int, siginfo_t *, void *), int flags) {
    struct sigaction action;
    memset(&action, 0, sizeof action);
    action.sa_sigaction = handler;
    action.sa_flags = flags | SA_SIGINFO;
    sigaddset(&action.sa_mask, SIGHUP);
    tell("sigaction", sigaction(number, &action, NULL), 0);
}

/* Vector registers are as they were when a handler returns; 32-bit x86 keeps floats elsewhere. */
static long kept(long a) {
#ifdef __i386__
    raise(SIGUSR1);
    return a * 3;
#else
    double b = a * 1.5;
    raise(SIGUSR1);
    return b * 2;
#endif
}

int main(void) {
    setvbuf(stdout, NULL, _IONBF, 0);
    int got;
    sigset_t set, old;
    struct sigaction action;

    catch(SIGUSR1, plain, 0);
    tell("raise", raise(SIGUSR1), 0);
    tell("kill", kill(getpid(), SIGUSR1), 0);
    show("plain");
    tell("kept", kept(300), 0);
    show("floats");

    catch(SIGUSR1, nested, SA_NODEFER);
    catch(SIGUSR2, nested, 0);
    depth = 0;
    sigaction(SIGUSR1, NULL, &action);
    tell("flags", action.sa_flags & SA_NODEFER, action.sa_handler == nested);
    catch(SIGUSR1, nested, 0);
    raise(SIGUSR1);
    show("nested");

    /* Held back: standard signals once, real-time signals as often as sent, the lowest number first. */
    catch(SIGUSR1, plain, 0);
    catch(SIGUSR2, plain, 0);
    catch(SIGRTMIN, plain, 0);
    sigfillset(&set);
    sigprocmask(SIG_BLOCK, &set, &old);
    raise(SIGUSR2);
    raise(SIGUSR1);
    raise(SIGUSR1);
    raise(SIGRTMIN);
    raise(SIGRTMIN);
    sigpending(&set);
    tell("pending", sigismember(&set, SIGUSR1), sigismember(&set, SIGTERM));
    show("none yet");
    sigprocmask(SIG_SETMASK, &old, NULL);
    show("after");

    catch_info(SIGUSR1, with_info, 0);
    kill(getpid(), SIGUSR1);
    syscall(SYS_tgkill, getpid(), syscall(SYS_gettid), SIGUSR1);
    show("info");
    catch_info(SIGRTMIN, with_info, 0);
    union sigval value = {.sival_int = 77};
    tell("queue", sigqueue(getpid(), SIGRTMIN, value), 0);
    show("value");

    page = mmap(NULL, 4096, PROT_NONE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    catch_info(SIGSEGV, mend, 0);
    page[0] = 5;
    tell("mended", page[0], 0);
    show("fault");
    munmap(page, 4096);
    catch_info(SIGSEGV, with_info, SA_RESETHAND);
    if (sigsetjmp(back, 1) == 0) {
        catch(SIGSEGV, jump, 0);
        *(volatile char *)page = 1;
    }
    tell("jumped", 1, 0);
    sigprocmask(SIG_BLOCK, NULL, &set);
    tell("mask", sigismember(&set, SIGSEGV), 0);

    stack_t place = {.ss_sp = stack, .ss_size = sizeof stack};
    tell("sigaltstack", sigaltstack(&place, NULL), 0);
    catch(SIGUSR2, on_stack, SA_ONSTACK);
    raise(SIGUSR2);
    show("stack");
    catch(SIGUSR2, on_stack, 0);
    raise(SIGUSR2);
    show("own stack");
    place.ss_size = 100;
    got = sigaltstack(&place, NULL);
    tell("small", got, errno);
    place.ss_flags = SS_DISABLE;
    tell("disable", sigaltstack(&place, NULL), 0);

    catch(SIGUSR2, plain, SA_RESETHAND);
    raise(SIGUSR2);
    sigaction(SIGUSR2, NULL, &action);
    tell("reset", action.sa_handler == SIG_DFL, 0);
    show("once");
    signal(SIGUSR2, SIG_IGN);
    tell("ignored", raise(SIGUSR2), 0);
    show("ignored");

    /* Waiting. */
    catch(SIGALRM, plain, 0);
    struct itimerval timer = {.it_value = {0, 20000}};
    tell("setitimer", setitimer(ITIMER_REAL, &timer, NULL), 0);
    got = pause();
    tell("pause", got, errno);
    show("alarm");
    timer.it_value.tv_usec = 10000;
    setitimer(ITIMER_REAL, &timer, NULL);
    struct timespec wanted = {5, 0}, rest = {0, 0};
    got = nanosleep(&wanted, &rest);
    tell("nanosleep", got, errno);
    tell("rest", rest.tv_sec, rest.tv_nsec > 500000000);
    show("slept");
    wanted.tv_sec = 0;
    wanted.tv_nsec = 1000000;
    tell("nanosleep", nanosleep(&wanted, NULL), 0);
    sigemptyset(&set);
    sigaddset(&set, SIGALRM);
    sigprocmask(SIG_BLOCK, &set, &old);
    timer.it_value.tv_usec = 5000;
    timer.it_interval.tv_usec = 5000;
    setitimer(ITIMER_REAL, &timer, NULL);
    siginfo_t info;
    got = sigwaitinfo(&set, &info);
    tell("sigwaitinfo", got, info.si_code);
    tell("again", sigwaitinfo(&set, NULL), 0);
    sigset_t none;
    sigemptyset(&none);
    got = sigsuspend(&none);
    tell("sigsuspend", got, errno);
    show("suspended");
    memset(&timer, 0, sizeof timer);
    struct itimerval before;
    setitimer(ITIMER_REAL, &timer, &before);
    tell("interval", before.it_interval.tv_sec, before.it_interval.tv_usec);
    sigprocmask(SIG_BLOCK, NULL, &set);
    tell("mask", sigismember(&set, SIGALRM), 0);
    wanted.tv_nsec = 2000000;
    sigemptyset(&set);
    sigaddset(&set, SIGUSR1);
    got = sigtimedwait(&set, NULL, &wanted);
    tell("sigtimedwait", got, errno);

    /* Errors. */
    got = kill(getpid(), 99);
    tell("kill", got, errno);
    tell("kill", sigaction(SIGKILL, NULL, &action), 0);
    action.sa_handler = plain;
    got = sigaction(SIGSTOP, &action, NULL);
    tell("stop", got, errno);
    got = sigaction(0, &action, NULL);
    tell("number", got, errno);
    got = sigprocmask(9, &set, NULL);
    tell("how", got, errno);
    tell("zero", kill(getpid(), 0), 0);

    catch(SIGFPE, jump, 0);
    got = sigsetjmp(back, 1);
    tell("division", got == 0 || got == SIGFPE, 0);
    if (got == 0)
        raise(SIGFPE);
    /* What the compiler traps with is another instruction on each machine. */
    catch(SIGILL, jump, 0);
    catch(SIGTRAP, jump, 0);
    got = sigsetjmp(back, 1);
    tell("illegal", got != 0, 0);
    if (got == 0)
        __builtin_trap();
    fflush(stdout);
    signal(SIGTERM, SIG_DFL);
    raise(SIGTERM);
    return 0;
}
