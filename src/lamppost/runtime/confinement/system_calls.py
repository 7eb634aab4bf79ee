"""Calls the Linux kernel by number, for what the standard library has no function for. The numbers of the machine's architecture."""

from __future__ import annotations

import ctypes
import os
from functools import cache
from typing import Final

_libc = ctypes.CDLL(None, use_errno=True)

LANDLOCK_CREATE_RULESET: Final = 444
LANDLOCK_ADD_RULE: Final = 445
LANDLOCK_RESTRICT_SELF: Final = 446
PR_SET_PDEATHSIG: Final = 1
PR_SET_DUMPABLE: Final = 4
PR_SET_KEEPCAPS: Final = 8
PR_SET_NO_NEW_PRIVS: Final = 38

AUDIT_ARCH: Final = {"x86_64": 0xC000003E, "aarch64": 0xC00000B7}
"""What a filter of system calls sees of the architecture (linux/audit.h)."""

_TABLE: Final = """
socket 41 198 | connect 42 203 | bind 49 200 | listen 50 201 | accept 43 202 | accept4 288 242 | socketpair 53 199 |
ptrace 101 117 | process_vm_readv 310 270 | process_vm_writev 311 271 | process_madvise 440 440 |
process_mrelease 448 448 | pidfd_open 434 434 | pidfd_getfd 438 438 | pidfd_send_signal 424 424 | kcmp 312 272 |
mount 165 40 | umount2 166 39 | pivot_root 155 41 | chroot 161 51 | move_mount 429 429 | open_tree 428 428 |
fsopen 430 430 | fsconfig 431 431 | fsmount 432 432 | fspick 433 433 | mount_setattr 442 442 | unshare 272 97 |
setns 308 268 | bpf 321 280 | perf_event_open 298 241 | io_uring_setup 425 425 | io_uring_enter 426 426 |
io_uring_register 427 427 | keyctl 250 219 | add_key 248 217 | request_key 249 218 | userfaultfd 323 282 |
init_module 175 105 | finit_module 313 273 | delete_module 176 106 | kexec_load 246 104 | kexec_file_load 320 294 |
reboot 169 142 | swapon 167 224 | swapoff 168 225 | settimeofday 164 170 | clock_settime 227 112 |
clock_adjtime 305 266 | adjtimex 159 171 | sethostname 170 161 | setdomainname 171 162 | acct 163 89 | quotactl 179 60 |
quotactl_fd 443 443 | syslog 103 116 | iopl 172 - | ioperm 173 - | open_by_handle_at 304 265 |
name_to_handle_at 303 264 | fanotify_init 300 262 | inotify_add_watch 254 27 | personality 135 92 | setsid 112 157 |
setpgid 109 154 | execve 59 221 | execveat 322 281 | fork 57 - | vfork 58 - | clone 56 220 | clone3 435 435 |
kill 62 129 | tkill 200 130 | tgkill 234 131 | rt_sigqueueinfo 129 138 | rt_tgsigqueueinfo 297 240 | prlimit64 302 261 |
setpriority 141 140 | ioprio_set 251 30 | sched_setscheduler 144 119 | sched_setparam 142 118 | sched_setattr 314 274 |
sched_setaffinity 203 122 | migrate_pages 256 238 | move_pages 279 239 | shmget 29 194 | shmat 30 196 | shmctl 31 195 |
msgget 68 186 | msgsnd 69 189 | msgrcv 70 188 | msgctl 71 187 | semget 64 190 | semop 65 193 | semctl 66 191 |
semtimedop 220 192 | mq_open 240 180 | prctl 157 167 | ioctl 16 29 | chmod 90 - | fchmod 91 52 | fchmodat 268 53 |
fchmodat2 452 452 | chown 92 - | fchown 93 55 | lchown 94 - | fchownat 260 54 | setxattr 188 5 | lsetxattr 189 6 |
fsetxattr 190 7 | removexattr 197 14 | lremovexattr 198 15 | fremovexattr 199 16 | utime 132 - | utimes 235 - |
futimesat 261 - | utimensat 280 88 | memfd_secret 447 447 | seccomp 317 277 | capset 126 91 | fcntl 72 25
"""
"""Name, number on x86_64 and on aarch64 of each call, from the kernel's asm/unistd.h; - where the architecture lacks it."""


@cache
def machine_numbers() -> dict[str, int] | None:
    """Numbers by the name of the call, without those that the architecture lacks; None for an architecture that is not known here."""
    if (column := {"x86_64": 1, "aarch64": 2}.get(os.uname().machine)) is None:
        return None
    calls = [call.split() for call in _TABLE.split("|")]
    return {call[0]: int(call[column]) for call in calls if call[column] != "-"}


def system_call(number: int, *arguments: int) -> int:
    """The result of a system call. Pointers are given as addresses. Raise OSError where it fails."""
    result = int(_libc.syscall(ctypes.c_long(number), *(ctypes.c_long(argument) for argument in arguments)))
    if result < 0:
        code = ctypes.get_errno()
        raise OSError(code, os.strerror(code))
    return result


def set_process_attribute(option: int, value: int) -> None:
    """Set an attribute of this process (prctl). Raise OSError where the kernel refuses."""
    if _libc.prctl(option, ctypes.c_ulong(value), 0, 0, 0):
        code = ctypes.get_errno()
        raise OSError(code, os.strerror(code))


def keep_memory_private() -> None:
    """Let no other process of this user read this one's memory, environment or open files, and write no core dump."""
    set_process_attribute(PR_SET_DUMPABLE, 0)
