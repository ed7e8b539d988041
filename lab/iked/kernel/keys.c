/*
 * keys: laid under the daemon, it stands for a kernel with PF_KEY (RFC 2367), which the machine need not have. It hands out SPIs, takes
 * every SA and policy, and carries no packet: the laboratory compares what two daemons agree on. Files in the folder KEYS_DIR are orders:
 * "child" says that the last SA nears the end of its lifetime, "ike" that the lifetime of the IKE SA (any of 20 to 24 hours) does.
 */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <linux/pfkeyv2.h>
#include <netinet/in.h>
#include <poll.h>
#include <pthread.h>
#include <pwd.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/random.h>
#include <sys/socket.h>
#include <sys/time.h>
#include <unistd.h>

struct event;
int event_active(struct event *, int, short);
void event_set(struct event *, int, short, void (*)(int, short, void *), void *);

/* order says whether there is an order of that name, and takes it away. */
static int order(const char *name)
{
	char path[512];
	snprintf(path, sizeof(path), "%s/%s", getenv("KEYS_DIR"), name);
	return !unlink(path);
}

static uint32_t last; /* the SPI given out last, in the network's order */

static size_t put(char *to, size_t at, const void *ext)
{
	size_t n = ((const struct sadb_ext *)ext)->sadb_ext_len * 8;
	memcpy(to + at, ext, n);
	return at + n;
}

static struct sadb_sa sa(uint32_t spi)
{
	return (struct sadb_sa){.sadb_sa_len = sizeof(struct sadb_sa) / 8, .sadb_sa_exttype = SADB_EXT_SA, .sadb_sa_spi = spi};
}

/* mode writes down whether an SA is for transport (1) or tunnel mode (2), which the daemon does not tell. */
static void mode(int is)
{
	char path[512];
	FILE *f;
	snprintf(path, sizeof(path), "%s/mode", getenv("KEYS_DIR"));
	if ((f = fopen(path, "w"))) {
		fprintf(f, "%d", is);
		fclose(f);
	}
}

/* answer takes a message of the daemon for done. */
static void answer(int fd, const char *in, ssize_t n)
{
	char out[8192];
	struct sadb_msg *r = (struct sadb_msg *)out;
	size_t at = sizeof(*r);

	if (n < (ssize_t)sizeof(*r) || n > (ssize_t)sizeof(out))
		return;
	memcpy(out, in, n);
	switch (r->sadb_msg_type) {
	case SADB_GETSPI: {
		struct sadb_sa mine;
		if (getrandom(&last, sizeof(last), 0) < 0)
			return;
		last |= htonl(0xc0000000);
		mine = sa(last);
		at = put(out, at, &mine);
		for (ssize_t i = sizeof(*r); i + (ssize_t)sizeof(struct sadb_ext) <= n;) {
			const struct sadb_ext *e = (const void *)(in + i);
			if (!e->sadb_ext_len)
				break;
			if (e->sadb_ext_type == SADB_EXT_ADDRESS_SRC || e->sadb_ext_type == SADB_EXT_ADDRESS_DST)
				at = put(out, at, e);
			i += e->sadb_ext_len * 8;
		}
		break;
	}
	case SADB_GET: /* when an SA was used last: it never was */
		r->sadb_msg_errno = ESRCH;
		break;
	default:
		at = n;
	}
	r->sadb_msg_len = at / 8;
	if (write(fd, out, at) < 0)
		return;
	if (r->sadb_msg_type != SADB_ADD && r->sadb_msg_type != SADB_UPDATE)
		return;
	for (at = sizeof(*r); at + sizeof(struct sadb_ext) <= (size_t)n;) {
		const struct sadb_ext *e = (const void *)(in + at);
		if (!e->sadb_ext_len)
			break;
		if (e->sadb_ext_type == SADB_X_EXT_SA2)
			mode(((const struct sadb_x_sa2 *)e)->sadb_x_sa2_mode);
		at += e->sadb_ext_len * 8;
	}
}

/* expire says that the last SA is to be renewed. */
static void expire(int fd)
{
	char out[256] = {0};
	struct sadb_msg *m = (struct sadb_msg *)out;
	struct sadb_sa mine = sa(last);
	struct sadb_lifetime life = {.sadb_lifetime_len = sizeof(life) / 8};
	struct { struct sadb_address address; struct sockaddr_in in; } end = {.in.sin_family = AF_INET};
	size_t at = put(out, sizeof(*m), &mine);

	for (int type = SADB_EXT_LIFETIME_CURRENT; type <= SADB_EXT_LIFETIME_SOFT; type += 2) {
		life.sadb_lifetime_exttype = type;
		at = put(out, at, &life);
	}
	end.address.sadb_address_len = sizeof(end) / 8;
	for (int type = SADB_EXT_ADDRESS_SRC; type <= SADB_EXT_ADDRESS_DST; type++) {
		end.address.sadb_address_exttype = type;
		at = put(out, at, &end);
	}
	m->sadb_msg_version = PF_KEY_V2;
	m->sadb_msg_type = SADB_EXPIRE;
	m->sadb_msg_satype = SADB_SATYPE_ESP;
	m->sadb_msg_len = at / 8;
	if (write(fd, out, at) < 0)
		return;
}

static void *serve(void *arg)
{
	struct pollfd p = {(int)(intptr_t)arg, POLLIN, 0};
	char in[65536];

	for (;;) {
		if (poll(&p, 1, 20) > 0) {
			ssize_t n = read(p.fd, in, sizeof(in));
			if (n <= 0)
				return NULL;
			answer(p.fd, in, n);
		}
		if (last && order("child"))
			expire(p.fd);
	}
}

/* A kernel answers before the daemon asks for the answer, so that it waits for a millisecond only; this one is a thread. */
int poll(struct pollfd *fds, nfds_t n, int timeout)
{
	int (*real)(struct pollfd *, nfds_t, int) = dlsym(RTLD_NEXT, "poll");

	return real(fds, n, timeout == 1 ? 5000 : timeout);
}

int socket(int domain, int type, int protocol)
{
	int (*real)(int, int, int) = dlsym(RTLD_NEXT, "socket");
	pthread_t thread;
	int fds[2];

	if (domain != PF_KEY)
		return real(domain, type, protocol);
	if (socketpair(AF_UNIX, SOCK_SEQPACKET, 0, fds) || pthread_create(&thread, NULL, serve, (void *)(intptr_t)fds[1]))
		return -1;
	return fds[0];
}

/* A socket of IKE may be kept from IPsec, and is told of ESP in UDP: this kernel knows neither. */
int setsockopt(int fd, int level, int name, const void *value, socklen_t n)
{
	int (*real)(int, int, int, const void *, socklen_t) = dlsym(RTLD_NEXT, "setsockopt");
	int rc = real(fd, level, name, value, n);
	int policy = (level == IPPROTO_IP && name == 16) || (level == IPPROTO_IPV6 && name == 34);

	return policy || (level == IPPROTO_UDP && name == 100) ? 0 : rc;
}

/* The timer of the IKE SA can be set off by an order. Looking for one is a timer of its own, as the daemon has one thread. The timer that
   begins, the first of two seconds, goes off at once. */
static struct event *renewal, *begin;
static int (*add)(struct event *, const struct timeval *);
static const struct timeval often = {0, 20000};

static void look(int fd, short what, void *arg)
{
	(void)fd, (void)what;
	if (renewal && order("ike"))
		event_active(renewal, 1, 1);
	add(arg, &often);
}

int event_add(struct event *ev, const struct timeval *after)
{
	static char own[512]; /* an event of libevent 2, which is smaller */

	if (!add)
		add = dlsym(RTLD_NEXT, "event_add");
	if (after && after->tv_sec > 72000 && after->tv_sec < 86400) {
		if (!renewal) {
			event_set((struct event *)own, -1, 0, look, own);
			add((struct event *)own, &often);
		}
		renewal = ev;
	}
	if (after && after->tv_sec == 2 && !begin)
		begin = ev;
	return add(ev, after && after->tv_sec == 2 && ev == begin ? &often : after);
}

/* The user that the daemon would become, without one. */
struct passwd *getpwnam(const char *name)
{
	static struct passwd p;
	(void)name;
	p = *getpwuid(0);
	p.pw_dir = "/";
	return &p;
}
