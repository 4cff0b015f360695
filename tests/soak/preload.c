/* Loaded before the C library: counts what a process does to files below FAULT_HOME, and at the FAULT_AT-th time does FAULT_HOW.

   kill: end the process before it is done; half: write half of it, and end; int, term: a signal, and then it is done;
   full: no room from then on; eio: this once it fails. FAULT_COUNT is a file whose first eight bytes are the count. */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <signal.h>
#include <stdatomic.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <unistd.h>

static _Atomic long *count;
static long at;
static const char *home, *how;

static void arm(void) {
    if (count || !getenv("FAULT_COUNT"))
        return;
    home = getenv("FAULT_HOME");
    how = getenv("FAULT_HOW");
    at = atol(getenv("FAULT_AT"));
    int fd = open(getenv("FAULT_COUNT"), O_RDWR);
    count = mmap(NULL, 8, PROT_READ | PROT_WRITE, MAP_SHARED, fd, 0);
    close(fd);
}

static int below(const char *path) {
    char whole[PATH_MAX * 2], here[PATH_MAX];
    if (path[0] != '/' && getcwd(here, sizeof here)) {
        snprintf(whole, sizeof whole, "%s/%s", here, path);
        path = whole;
    }
    return !strncmp(path, home, strlen(home));
}

static int of_descriptor(int fd) {
    char link[64], path[PATH_MAX];
    snprintf(link, sizeof link, "/proc/self/fd/%d", fd);
    ssize_t n = readlink(link, path, sizeof path - 1);
    if (n < 0)
        return 0;
    path[n] = 0;
    /* pipes and what wakes threads have no path; if they failed, the process would wait for ever */
    return path[0] == '/' && below(path);
}

/* Whether this call is to fail. `fd`, `n` and `to` (-1: where it stands) are of a write, of which half can be done. */
static int fails(int fd, const void *data, size_t n, off_t to) {
    long now = ++*count;
    int here = now == at;
    if (!strcmp(how, "full") && data && now >= at && at > 0) {
        errno = ENOSPC;
        return 1;
    }
    if (!here)
        return 0;
    if (!strcmp(how, "half") && data) {
        ssize_t (*on)(int, const void *, size_t) = dlsym(RTLD_NEXT, "write");
        ssize_t (*there)(int, const void *, size_t, off_t) = dlsym(RTLD_NEXT, "pwrite");
        if ((to < 0 ? on(fd, data, n / 2) : there(fd, data, n / 2, to)) < 0) {}
    }
    if (!strcmp(how, "kill") || !strcmp(how, "half"))
        kill(getpid(), SIGKILL);
    if (!strcmp(how, "int") || !strcmp(how, "term"))
        kill(getpid(), !strcmp(how, "int") ? SIGINT : SIGTERM);
    if (!strcmp(how, "eio")) {
        errno = EIO;
        return 1;
    }
    return 0;
}

#define BY_DESCRIPTOR(type, name, fd, data, n, to, arguments, passed) \
    type name arguments {                                          \
        type(*real) arguments = dlsym(RTLD_NEXT, #name);           \
        arm();                                                     \
        if (count && of_descriptor(fd) && fails(fd, data, n, to))  \
            return -1;                                             \
        return real passed;                                        \
    }
#define BY_PATH(name, path, arguments, passed)            \
    int name arguments {                                  \
        int(*real) arguments = dlsym(RTLD_NEXT, #name);   \
        arm();                                            \
        if (count && below(path) && fails(-1, NULL, 0, -1))  \
            return -1;                                    \
        return real passed;                               \
    }

BY_DESCRIPTOR(ssize_t, write, fd, data, n, -1, (int fd, const void *data, size_t n), (fd, data, n))
BY_DESCRIPTOR(ssize_t, pwrite64, fd, data, n, to, (int fd, const void *data, size_t n, off_t to), (fd, data, n, to))
BY_DESCRIPTOR(ssize_t, pwrite, fd, data, n, to, (int fd, const void *data, size_t n, off_t to), (fd, data, n, to))
BY_DESCRIPTOR(int, fsync, fd, NULL, 0, -1, (int fd), (fd))
BY_DESCRIPTOR(int, fdatasync, fd, NULL, 0, -1, (int fd), (fd))
BY_PATH(rename, from, (const char *from, const char *to), (from, to))
BY_PATH(unlink, path, (const char *path), (path))
