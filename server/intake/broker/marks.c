/* What the broker does for intake before it acknowledges a message to its sender:

   - every message gets a mark, the user property `oculum-mark`: run, number, bytes so far. The queue for intake is in
     the order of these numbers, so that a message that comes again after the broker was killed is known by its mark;
   - an account that sends more than it may is refused by closing its connection before the acknowledgement, so that
     it sends the message again later. What was acknowledged is never dropped;
   - all are refused while more waits for intake than the queue may hold, which the broker would drop silently;
   - what somebody publishes to a topic that is not their own is counted. The broker denies it by its list, but has no
     way to say so in MQTT 3.1.1.

   Intake tells how far it is on `oculum/taken`, and is told what was refused on `oculum/refused`. */

#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/random.h>
#include <time.h>

#include <mosquitto.h>
#include <mosquitto_broker.h>
#include <mosquitto_plugin.h>
#include <mqtt_protocol.h>

#define NAME 64
#define CHAINS 4096
#define OVERHEAD 256
#define INTAKE "oculum-intake"

struct account {
    struct account *next;
    char name[NAME];
    double per_minute, bytes_per_minute; /* what it may send */
    double messages, bytes;              /* what it may send now */
    double at;                           /* seconds, when that was so */
    uint64_t refused, refused_full, elsewhere; /* since intake was told */
};

static mosquitto_plugin_id_t *self;
static struct account *chains[CHAINS];
static char limits_file[512];
static double default_messages = 600, default_bytes = 4194304;
static uint64_t backlog = 134217728;
static uint64_t run, number, total, taken;
static double told_at;
static int refusals;

static double now(void)
{
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (double)t.tv_sec + (double)t.tv_nsec / 1e9;
}

static struct account *account_of(const char *name)
{
    uint32_t hash = 2166136261u;
    for (const char *c = name; *c; c++)
        hash = (hash ^ (unsigned char)*c) * 16777619u;
    struct account **place = &chains[hash % CHAINS];
    for (; *place; place = &(*place)->next)
        if (strncmp((*place)->name, name, NAME - 1) == 0)
            return *place;
    struct account *made = calloc(1, sizeof *made);
    if (made == NULL)
        return NULL;
    strncpy(made->name, name, NAME - 1);
    made->per_minute = made->messages = default_messages;
    made->bytes_per_minute = made->bytes = default_bytes;
    made->at = now();
    *place = made;
    return made;
}

/* A line an account: name, messages a minute, bytes a minute; `*` is everybody else. */
static void read_limits(void)
{
    FILE *file = limits_file[0] ? fopen(limits_file, "r") : NULL;
    if (file == NULL)
        return;
    char name[NAME];
    double messages, bytes;
    while (fscanf(file, "%63s %lf %lf", name, &messages, &bytes) == 3) {
        if (strcmp(name, "*") == 0) {
            default_messages = messages;
            default_bytes = bytes;
            for (int i = 0; i < CHAINS; i++)
                for (struct account *a = chains[i]; a; a = a->next) {
                    a->per_minute = messages;
                    a->bytes_per_minute = bytes;
                }
        } else {
            struct account *a = account_of(name);
            if (a == NULL)
                break;
            a->per_minute = messages;
            a->bytes_per_minute = bytes;
        }
    }
    fclose(file);
}

static int may(struct account *a, uint32_t size)
{
    double clock = now(), minutes = (clock - a->at) / 60.0;
    a->at = clock;
    a->messages += minutes * a->per_minute;
    a->bytes += minutes * a->bytes_per_minute;
    if (a->messages > a->per_minute)
        a->messages = a->per_minute;
    if (a->bytes > a->bytes_per_minute)
        a->bytes = a->bytes_per_minute;
    if (a->messages < 1 || a->bytes < size)
        return 0;
    a->messages -= 1;
    a->bytes -= size;
    return 1;
}

static void hear_taken(const struct mosquitto_evt_message *event)
{
    char text[64] = {0};
    uint64_t of, bytes;
    if (event->payloadlen == 0 || event->payloadlen >= sizeof text)
        return;
    memcpy(text, event->payload, event->payloadlen);
    if (sscanf(text, "%16" SCNx64 "-%" SCNu64, &of, &bytes) == 2 && of == run && bytes <= total)
        taken = bytes;
}

static int refuse(uint64_t *count)
{
    (*count)++;
    refusals = 1;
    return MOSQ_ERR_UNKNOWN; /* closes the connection: a sender keeps what was not acknowledged, and sends it later */
}

static int on_message(int kind, void *data, void *user)
{
    struct mosquitto_evt_message *event = data;
    const char *name = event->client ? mosquitto_client_username(event->client) : NULL;
    (void)kind;
    (void)user;
    if (name == NULL)
        return MOSQ_ERR_SUCCESS;
    if (strcmp(name, INTAKE) == 0) {
        if (strcmp(event->topic, "oculum/taken") == 0)
            hear_taken(event);
        return MOSQ_ERR_SUCCESS;
    }
    struct account *a = account_of(name);
    if (a == NULL)
        return MOSQ_ERR_NOMEM;
    if (!may(a, event->payloadlen))
        return refuse(&a->refused);
    uint64_t size = event->payloadlen + strlen(event->topic) + OVERHEAD;
    if (event->qos > 0 && total - taken + size > backlog)
        return refuse(&a->refused_full);
    char mark[80];
    if (event->qos > 0)
        total += size;
    snprintf(mark, sizeof mark, "%016" PRIx64 "-%" PRIu64 "-%" PRIu64, run, ++number, total);
    return mosquitto_property_add_string_pair(&event->properties, MQTT_PROP_USER_PROPERTY, "oculum-mark", mark);
}

/* The list of topics decides; this only counts. */
static int on_access(int kind, void *data, void *user)
{
    struct mosquitto_evt_acl_check *event = data;
    const char *name = event->client ? mosquitto_client_username(event->client) : NULL;
    (void)kind;
    (void)user;
    if (event->access != MOSQ_ACL_WRITE || name == NULL || event->topic == NULL || strcmp(name, INTAKE) == 0)
        return MOSQ_ERR_PLUGIN_DEFER;
    size_t length = strlen(name);
    const char *rest = event->topic + 3;
    int own = strncmp(event->topic, "up/", 3) == 0 && strncmp(rest, name, length) == 0
        && (rest[length] == '\0' || rest[length] == '/');
    struct account *a = own ? NULL : account_of(name);
    if (a != NULL) {
        a->elsewhere++;
        refusals = 1;
    }
    return MOSQ_ERR_PLUGIN_DEFER;
}

/* Once a second: who was refused how often, a line an account, to intake if it listens. */
static int on_tick(int kind, void *data, void *user)
{
    (void)kind;
    (void)data;
    (void)user;
    if (!refusals || now() - told_at < 1)
        return MOSQ_ERR_SUCCESS;
    told_at = now();
    refusals = 0;
    char text[16384];
    size_t length = 0;
    for (int i = 0; i < CHAINS; i++)
        for (struct account *a = chains[i]; a; a = a->next) {
            if (a->refused == 0 && a->refused_full == 0 && a->elsewhere == 0)
                continue;
            if (length > sizeof text - 128) {
                refusals = 1;
                continue;
            }
            length += (size_t)snprintf(
                text + length, sizeof text - length, "%s %" PRIu64 " %" PRIu64 " %" PRIu64 "\n", a->name, a->refused,
                a->refused_full, a->elsewhere);
            a->refused = a->refused_full = a->elsewhere = 0;
        }
    return mosquitto_broker_publish_copy(NULL, "oculum/refused", (int)length, text, 0, false, NULL);
}

static int on_reload(int kind, void *data, void *user)
{
    (void)kind;
    (void)data;
    (void)user;
    read_limits();
    return MOSQ_ERR_SUCCESS;
}

int mosquitto_plugin_version(int count, const int *versions)
{
    for (int i = 0; i < count; i++)
        if (versions[i] == 5)
            return 5;
    return -1;
}

int mosquitto_plugin_init(mosquitto_plugin_id_t *id, void **user, struct mosquitto_opt *options, int count)
{
    (void)user;
    self = id;
    for (int i = 0; i < count; i++) {
        if (strcmp(options[i].key, "limits") == 0)
            snprintf(limits_file, sizeof limits_file, "%s", options[i].value);
        else if (strcmp(options[i].key, "backlog") == 0)
            backlog = strtoull(options[i].value, NULL, 10);
    }
    if (getrandom(&run, sizeof run, 0) != sizeof run)
        return MOSQ_ERR_UNKNOWN;
    read_limits();
    int wrong = mosquitto_callback_register(self, MOSQ_EVT_MESSAGE, on_message, NULL, NULL);
    wrong = wrong ? wrong : mosquitto_callback_register(self, MOSQ_EVT_ACL_CHECK, on_access, NULL, NULL);
    wrong = wrong ? wrong : mosquitto_callback_register(self, MOSQ_EVT_TICK, on_tick, NULL, NULL);
    return wrong ? wrong : mosquitto_callback_register(self, MOSQ_EVT_RELOAD, on_reload, NULL, NULL);
}

int mosquitto_plugin_cleanup(void *user, struct mosquitto_opt *options, int count)
{
    (void)user;
    (void)options;
    (void)count;
    for (int i = 0; i < CHAINS; i++)
        while (chains[i]) {
            struct account *gone = chains[i];
            chains[i] = gone->next;
            free(gone);
        }
    return MOSQ_ERR_SUCCESS;
}
