/*
 * acceptall: an IPsec kernel for the daemon that accepts every security association and every policy and carries no
 * packet. The laboratory compares what two daemons agree on; the kernel of the machine it runs on need not have ESP.
 */
#include <library.h>
#include <kernel/kernel_ipsec.h>

static refcount_t next_spi = 0xbfffffff, next_cpi = 0x100;

static status_t allocate_spi(kernel_ipsec_t *this, host_t *src, host_t *dst, uint8_t protocol, uint32_t *spi)
{
	*spi = htonl((uint32_t)ref_get(&next_spi));
	return SUCCESS;
}

static status_t allocate_cpi(kernel_ipsec_t *this, host_t *src, host_t *dst, uint16_t *cpi)
{
	*cpi = htons((uint16_t)ref_get(&next_cpi));
	return SUCCESS;
}

static status_t accept_it()
{
	return SUCCESS;
}

static status_t query_sa(kernel_ipsec_t *this, kernel_ipsec_sa_id_t *id, kernel_ipsec_query_sa_t *data, uint64_t *bytes, uint64_t *packets, time_t *when)
{
	if (bytes)
	{
		*bytes = 0;
	}
	if (packets)
	{
		*packets = 0;
	}
	if (when)
	{
		*when = 0;
	}
	return SUCCESS;
}

static status_t query_policy(kernel_ipsec_t *this, kernel_ipsec_policy_id_t *id, kernel_ipsec_query_policy_t *data, time_t *when)
{
	*when = 0;
	return SUCCESS;
}

static kernel_feature_t features(kernel_ipsec_t *this)
{
	return KERNEL_ESP_V3_TFC;
}

static void destroy(void *this)
{
	free(this);
}

static kernel_ipsec_t *create()
{
	kernel_ipsec_t *this;

	INIT(this,
		.get_features = features,
		.get_spi = allocate_spi,
		.get_cpi = allocate_cpi,
		.add_sa = (void*)accept_it,
		.update_sa = (void*)accept_it,
		.query_sa = query_sa,
		.del_sa = (void*)accept_it,
		.flush_sas = (void*)accept_it,
		.add_policy = (void*)accept_it,
		.query_policy = query_policy,
		.del_policy = (void*)accept_it,
		.flush_policies = (void*)accept_it,
		.bypass_socket = (void*)return_true,
		.enable_udp_decap = (void*)return_true,
		.destroy = (void*)destroy,
	);
	return this;
}

static char *plugin_name(plugin_t *this)
{
	return "acceptall";
}

static int plugin_features(plugin_t *this, plugin_feature_t *all[])
{
	static plugin_feature_t list[] = {
		PLUGIN_CALLBACK(kernel_ipsec_register, create),
			PLUGIN_PROVIDE(CUSTOM, "kernel-ipsec"),
	};
	*all = list;
	return countof(list);
}

plugin_t *acceptall_plugin_create()
{
	plugin_t *this;

	INIT(this,
		.get_name = plugin_name,
		.get_features = plugin_features,
		.destroy = (void*)destroy,
	);
	return this;
}
