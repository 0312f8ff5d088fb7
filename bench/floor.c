/* The floor: how many answers a second a program with nothing to do can get out of a server.
 *
 * floor ADDRESS PORT NAMES: NAMES holds one query name a line. Every name is asked once for A, 256 under way at a time, with
 * sendmmsg and recvmmsg on one connected UDP socket; ids are the number of the slot. Prints answers and seconds. What is
 * lost is sent again after 200 ms. No retry limits, no checks but the id: it is a measure, not a tool.
 */
#define _GNU_SOURCE
#include <arpa/inet.h>
#include <errno.h>
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>

enum { WINDOW = 256, SIZE = 512 };

static double now(void) {
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return t.tv_sec + t.tv_nsec * 1e-9;
}

static int encode(unsigned char *out, const char *name) {
    static const unsigned char head[12] = {0, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 1};
    static const unsigned char tail[15] = {0, 1, 0, 1, 0, 0, 41, 4, 208, 0, 0, 0, 0, 0, 0};
    memcpy(out, head, 12);
    unsigned char *at = out + 12;
    while (*name && *name != '\n') {
        size_t size = strcspn(name, ".\n");
        *at++ = (unsigned char)size;
        memcpy(at, name, size);
        at += size;
        name += size + (name[size] == '.');
    }
    *at++ = 0;
    memcpy(at, tail, 15);
    return (int)(at + 15 - out);
}

int main(int argc, char **argv) {
    if (argc != 4) return 2;
    FILE *file = fopen(argv[3], "r");
    if (!file) return 2;
    char line[512];
    size_t count = 0, room = 1 << 20;
    unsigned char *wires = malloc(room * 96);
    unsigned char *sizes = malloc(room);
    while (fgets(line, sizeof line, file) && count < room) {
        sizes[count] = (unsigned char)encode(wires + count * 96, line);
        count++;
    }
    int sock = socket(AF_INET, SOCK_DGRAM, 0), big = 1 << 20;
    setsockopt(sock, SOL_SOCKET, SO_RCVBUF, &big, sizeof big);
    struct sockaddr_in to = {.sin_family = AF_INET, .sin_port = htons((unsigned short)atoi(argv[2]))};
    inet_pton(AF_INET, argv[1], &to.sin_addr);
    if (connect(sock, (struct sockaddr *)&to, sizeof to)) return 1;

    static unsigned char in[WINDOW][SIZE];
    struct mmsghdr out_headers[WINDOW], in_headers[WINDOW];
    struct iovec out_parts[WINDOW], in_parts[WINDOW];
    long slot[WINDOW];
    int fresh[WINDOW], idle = WINDOW;
    memset(in_headers, 0, sizeof in_headers);
    memset(out_headers, 0, sizeof out_headers);
    for (int i = 0; i < WINDOW; i++) {
        in_parts[i] = (struct iovec){in[i], SIZE};
        in_headers[i].msg_hdr.msg_iov = &in_parts[i];
        in_headers[i].msg_hdr.msg_iovlen = 1;
        out_headers[i].msg_hdr.msg_iov = &out_parts[i];
        out_headers[i].msg_hdr.msg_iovlen = 1;
        slot[i] = -1;
        fresh[i] = i;
    }
    size_t next = 0, done = 0;
    double start = now();
    while (done < count) {
        int send = 0;
        while (idle && next < count) {
            int s = fresh[--idle];
            unsigned char *wire = wires + next * 96;
            wire[0] = (unsigned char)(s >> 8);
            wire[1] = (unsigned char)s;
            slot[s] = (long)next;
            out_parts[send++] = (struct iovec){wire, sizes[next++]};
        }
        for (int sent = 0; sent < send;) {
            int n = sendmmsg(sock, out_headers + sent, (unsigned)(send - sent), 0);
            if (n < 0) return 1;
            sent += n;
        }
        struct pollfd wait = {sock, POLLIN, 0};
        if (poll(&wait, 1, 200) == 0) {
            for (int s = 0; s < WINDOW; s++)
                if (slot[s] >= 0 && write(sock, wires + slot[s] * 96, sizes[slot[s]]) < 0) return 1;
            continue;
        }
        int got = recvmmsg(sock, in_headers, WINDOW, MSG_DONTWAIT, NULL);
        for (int i = 0; i < got; i++) {
            int s = in[i][0] << 8 | in[i][1];
            if (s >= WINDOW || slot[s] < 0) continue;
            slot[s] = -1;
            fresh[idle++] = s;
            done++;
        }
    }
    double took = now() - start;
    printf("%zu %.6f\n", done, took);
    return 0;
}
