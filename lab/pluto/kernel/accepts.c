/*
 * accepts: laid under the daemon, it takes the kernel's answer that it knows no ESP, or no such SA, for a yes. The laboratory compares what
 * two daemons agree on; the kernel of the machine it runs on need not have ESP. No packet is carried.
 */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <linux/netlink.h>
#include <sys/socket.h>

static ssize_t yes(int fd, void *buf, ssize_t n)
{
	struct sockaddr_storage a;
	socklen_t size = sizeof(a);
	struct nlmsghdr *h = buf;
	struct nlmsgerr *e;

	if (n < (ssize_t)NLMSG_LENGTH(sizeof(struct nlmsgerr)) || getsockname(fd, (struct sockaddr *)&a, &size) ||
		a.ss_family != AF_NETLINK || h->nlmsg_type != NLMSG_ERROR)
	{
		return n;
	}
	e = NLMSG_DATA(h);
	if (e->error == -ENOSYS || e->error == -ESRCH || e->error == -EPROTONOSUPPORT)
	{
		e->error = 0;
	}
	return n;
}

ssize_t recvfrom(int fd, void *buf, size_t len, int flags, struct sockaddr *from, socklen_t *size)
{
	ssize_t (*real)(int, void *, size_t, int, struct sockaddr *, socklen_t *) = dlsym(RTLD_NEXT, "recvfrom");
	return yes(fd, buf, real(fd, buf, len, flags, from, size));
}

ssize_t __recvfrom_chk(int fd, void *buf, size_t len, size_t room, int flags, struct sockaddr *from, socklen_t *size)
{
	return recvfrom(fd, buf, len, flags, from, size);
}
