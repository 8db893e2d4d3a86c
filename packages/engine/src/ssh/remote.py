"""What Tessarion runs on a server that it reaches by SSH: one process a connection, which ends with it.

It is sent over the connection and leaves nothing behind; Python 3.6 is enough. It speaks frames in both directions
(`frames.ts` beside it is the other end): length of the payload (4 bytes), kind (1), request (4), payload.

    Q  a request: JSON, byte strings as Latin-1          A  its answer: JSON      F  its failure: JSON
    D  a piece of data                                   E  the end of the data   X  whoever asked has given up
    C  a piece was taken, so that another one may come   .  a sign of life, which is answered

Requests are answered in the order in which they came, but for long ones, each of which has a thread. A site may exchange its
files and folders for links at any moment, so that a path means nothing until it has been opened: see `local/below.ts`, whose rules
these are.
"""

import contextlib
import errno
import fcntl
import hashlib
import itertools
import json
import os
import platform
import queue
import shutil
import signal
import stat
import struct
import subprocess
import sys
import threading
import time

HEAD = struct.Struct('>IcI')
# Pieces on their way that nobody has taken yet.
WINDOW = 8
PIECE = 256 * 1024
# A file up to this size is answered in turn, without a thread of its own.
SMALL = 1024 * 1024
# Whoever asks gives a sign each second; one who has been silent for so long is gone, whatever the network thinks.
SILENCE = 30
KEPT = 64 * 1024

incoming = sys.stdin.buffer
outgoing = threading.Lock()
streams = {}
children = set()
last_heard = time.monotonic()


def send(kind, request, payload=b''):
    data = memoryview(HEAD.pack(len(payload), kind, request) + payload)
    with outgoing:
        while data:
            data = data[os.write(1, data):]


def end():
    """Ends at once, with all that was started."""
    for child in list(children):
        with contextlib.suppress(OSError):
            os.killpg(child, signal.SIGKILL)
    os._exit(0)


def raw(text):
    return text.encode('latin-1')


def text(path):
    return path.decode('latin-1')


class Problem(Exception):
    """A failure of ours: what it is, and of which path."""

    def __init__(self, kind, path, words=''):
        super().__init__(words)
        self.answer = {'problem': kind, 'path': text(path), 'words': words}


class GivenUp(Exception):
    pass


class Stream:
    """Data of one request, in either direction."""

    def __init__(self, number):
        self.number = number
        self.pieces = queue.Queue()
        self.room = threading.Semaphore(WINDOW)
        self.wanted = 0
        self.is_gone = False

    def give(self, payload, must_wait=True):
        if must_wait:
            self.room.acquire()
        if self.is_gone:
            raise GivenUp
        send(b'D', self.number, payload)

    def wait_until_taken(self):
        """Waits until all that was given has been taken."""
        for _ in range(WINDOW):
            self.room.acquire()
        self.room = threading.Semaphore(WINDOW)
        if self.is_gone:
            raise GivenUp

    def give_up(self):
        self.is_gone = True
        self.pieces.put(None)
        for _ in range(2 * WINDOW):
            self.room.release()

    def __iter__(self):
        while True:
            piece = self.pieces.get()
            if self.is_gone:
                raise GivenUp
            if piece is None:
                return
            yield piece
            send(b'C', self.number)

    def whole(self):
        return b''.join(self)


# ---- Paths -------------------------------------------------------------------------------------------------------------------

NO_LINK = os.O_NOFOLLOW | os.O_CLOEXEC
NEW_FILE = os.O_WRONLY | os.O_CREAT | os.O_EXCL | NO_LINK
base = b''
real_base = None


def own(fd):
    return '/proc/self/fd/%d' % fd


@contextlib.contextmanager
def closing(fd):
    try:
        yield fd
    finally:
        os.close(fd)


def path_of(fd):
    return os.readlink(own(fd).encode())


def find_real_base():
    global real_base
    if real_base is None:
        with closing(os.open(base or b'/', os.O_PATH | os.O_DIRECTORY | os.O_CLOEXEC)) as fd:
            found = path_of(fd)
        real_base = b'' if found == b'/' else found
    return real_base


def is_meant(asked, found):
    """Whether an opened path is the one that was asked for, but for the links that an environment's layout is made of."""
    if asked == found:
        return True
    asked, found = asked.split(b'/'), found.split(b'/')
    if asked[0] != found[0] or len(found) < 2:
        return False
    rest, kind, more = asked[1:], found[1], found[2:]
    if kind == b'trees':
        return len(more) > 0 and rest[1:] == more[1:]
    if kind != b'keep' or len(more) < 2:
        return False
    below = more[2:]
    return len(below) < len(rest) and rest[len(rest) - len(below):] == below


def must_be(path, fd):
    """Raises a problem when something else was opened than was asked for."""
    found = path_of(fd)
    if path == base:
        return
    if not path.startswith(base + b'/'):
        raise Problem('refused', path, 'lies outside the folder of its server')
    if found.endswith(b' (deleted)') and not path.endswith(b' (deleted)'):
        raise OSError(errno.ENOENT, 'it is gone')
    real = find_real_base()
    if not found.startswith(real + b'/'):
        raise Problem('refused', path, 'leads out of its folder')
    if not is_meant(path[len(base) + 1:], found[len(real) + 1:]):
        raise Problem('refused', path, 'leads elsewhere')


def open_below(path, flags, meant=None):
    fd = os.open(path, flags | NO_LINK)
    try:
        must_be(path if meant is None else meant, fd)
        return fd
    except BaseException:
        os.close(fd)
        raise


def open_folder(path, flags=os.O_RDONLY):
    return open_below(path + b'/.', flags | os.O_DIRECTORY, path)


def open_file(path):
    """Opens a file for reading: neither a link, nor anything that makes one wait."""
    with closing(open_below(path, os.O_PATH)) as found:
        if not stat.S_ISREG(os.fstat(found).st_mode):
            raise Problem('refused', path, 'is no file any more')
        return os.open(own(found), os.O_RDONLY | os.O_CLOEXEC)


@contextlib.contextmanager
def entry(path):
    """An entry of a folder, which is there itself or not: the open folder, and its name there."""
    above, _, name = path.rpartition(b'/')
    if name in (b'', b'.', b'..'):
        raise Problem('refused', path, 'names no entry of a folder')
    with closing(open_folder(above, os.O_PATH)) as folder:
        yield folder, name


def look(folder, name):
    return os.stat(name, dir_fd=folder, follow_symlinks=False)


def is_there(folder, name):
    try:
        return look(folder, name)
    except FileNotFoundError:
        return None


def seconds(ns):
    return '%d.%09d0' % divmod(ns, 10 ** 9)


def identity(st):
    """Size, time of writing, time of change and inode, as `find` writes them."""
    return '%d %s %s %d' % (st.st_size, seconds(st.st_mtime_ns), seconds(st.st_ctime_ns), st.st_ino)


TYPES = {stat.S_IFREG: 'f', stat.S_IFDIR: 'd', stat.S_IFLNK: 'l'}


def described(st, path, target):
    """An entry as `found.ts` takes it."""
    kind = TYPES.get(stat.S_IFMT(st.st_mode), '?')
    said = '%s %o %d %d %s' % (kind, stat.S_IMODE(st.st_mode), st.st_uid, st.st_gid, identity(st))
    return b'%s\0%s\0%s\0' % (said.encode(), path, target)


def describe(folder, name, path):
    st = is_there(folder, name)
    if st is None:
        return None
    target = b''
    if stat.S_ISLNK(st.st_mode):
        try:
            target = os.readlink(name, dir_fd=folder)
        except OSError as error:
            # It was exchanged since; whoever lists once more sees what for.
            if error.errno not in (errno.ENOENT, errno.EINVAL):
                raise
            return None
    return described(st, path, target)


# ---- Owners ------------------------------------------------------------------------------------------------------------------

IS_ROOT = os.geteuid() == 0


def owner_in(folder):
    """Who owns what lies in an open folder; one of root's says nothing of who writes in it, but for a group that it passes on."""
    st = os.fstat(folder)
    return st.st_uid, st.st_gid if st.st_uid != 0 or st.st_mode & stat.S_ISGID else 0


def owner_of(folder, name):
    st = is_there(folder, name)
    return owner_in(folder) if st is None else (st.st_uid, st.st_gid)


def give(fd, owner):
    st = os.fstat(fd)
    if IS_ROOT and (st.st_uid, st.st_gid) != tuple(owner):
        os.fchown(fd, *owner)


def give_link(folder, name, owner):
    if IS_ROOT:
        os.chown(name, *owner, dir_fd=folder, follow_symlinks=False)


def wanted_owner(request):
    owner = request.get('owner')
    return (owner['uid'], owner['gid']) if owner else None


# ---- Acts --------------------------------------------------------------------------------------------------------------------


def list_below(folder, below, stream, state):
    """Everything below an open folder in the order of its paths, each folder before what is in it."""
    for name in sorted(os.listdir(own(folder).encode())):
        path = below + name
        line = describe(folder, name, path)
        if line is None:
            continue
        state.append(line)
        state.size += len(line)
        if state.size >= PIECE:
            stream.give(b''.join(state.take()))
        if line[:1] != b'd' or state.is_flat:
            continue
        try:
            inner = os.open(name, os.O_RDONLY | os.O_DIRECTORY | NO_LINK, dir_fd=folder)
        except FileNotFoundError:
            continue
        except OSError as error:
            # A link has taken its place.
            if error.errno in (errno.ELOOP, errno.ENOTDIR):
                continue
            raise Problem(errno.errorcode.get(error.errno, ''), state.folder + b'/' + path, error.strerror)
        with closing(inner):
            list_below(inner, path + b'/', stream, state)


class Lines(list):
    def __init__(self, folder, is_flat):
        super().__init__()
        self.folder = folder
        self.is_flat = is_flat
        self.size = 0

    def take(self):
        taken = list(self)
        self.clear()
        self.size = 0
        return taken


def do_list(request, stream):
    folder = raw(request['path'])
    lines = Lines(folder, request.get('flat', False))
    try:
        fd = open_folder(folder)
    except FileNotFoundError:
        if not lines.is_flat:
            raise
        return None
    with closing(fd):
        list_below(fd, b'', stream, lines)
    if lines:
        stream.give(b''.join(lines))


def read_piece(fd, size):
    parts = []
    while size > 0:
        part = os.read(fd, size)
        if not part:
            break
        parts.append(part)
        size -= len(part)
    return parts[0] if len(parts) == 1 else b''.join(parts)


def must_be_still(fd, before, path):
    if identity(os.fstat(fd)) != identity(before):
        raise Problem('changed', path)


def do_read(request, stream):
    """A file in pieces; the last one only where nobody wrote to it meanwhile, and when all others have been taken."""
    path = raw(request['path'])
    size = request.get('bytes') or PIECE
    with closing(open_file(path)) as fd:
        before = os.fstat(fd)
        left = before.st_size
        while left > size:
            piece = read_piece(fd, size)
            if len(piece) < size:
                break
            stream.give(piece)
            left -= size
        if left < before.st_size and request.get('bytes'):
            stream.wait_until_taken()
        piece = read_piece(fd, min(left, size))
        must_be_still(fd, before, path)
        stream.give(piece)


def is_small(request):
    try:
        return os.stat(raw(request['path']), follow_symlinks=False).st_size <= SMALL
    except OSError:
        return True


def fill(fd, folder, name, pieces, request, owner):
    """Fills a new file of an open folder, and removes it again when that fails."""
    try:
        for piece in pieces:
            view = memoryview(piece)
            while view:
                view = view[os.write(fd, view):]
        give(fd, owner)
        modified = request.get('modified')
        if modified is not None:
            os.utime(own(fd), (modified, modified))
        if stat.S_IMODE(os.fstat(fd).st_mode) != request['mode']:
            os.fchmod(fd, request['mode'])
        if request.get('acl') is not None:
            write_acls([(fd, request['acl'])])
        return identity(os.fstat(fd))
    except BaseException:
        with contextlib.suppress(OSError):
            os.unlink(name, dir_fd=folder)
        raise


def do_write(request, stream):
    owner = wanted_owner(request)
    with entry(raw(request['path'])) as (folder, name):
        try:
            fd = os.open(name, NEW_FILE, request['mode'], dir_fd=folder)
        except FileExistsError:
            fd = None
        if fd is not None:
            with closing(fd):
                return fill(fd, folder, name, stream, request, owner or owner_in(folder))
        owner = owner or owner_of(folder, name)
        beside = name + b'.tsr-new'
        with contextlib.suppress(FileNotFoundError):
            os.unlink(beside, dir_fd=folder)
        with closing(os.open(beside, NEW_FILE, request['mode'], dir_fd=folder)) as fd:
            made = fill(fd, folder, beside, stream, request, owner)
            os.rename(beside, name, src_dir_fd=folder, dst_dir_fd=folder)
            # A new name is a change of its own.
            return identity(os.fstat(fd))


def do_node(request, _stream):
    path = raw(request['path'])
    try:
        with entry(path) as (folder, name):
            line = describe(folder, name, path)
            return None if line is None else text(line)
    except (FileNotFoundError, NotADirectoryError):
        return None


def make_folder(path, mode=None, owner=None):
    if path == base or base.startswith(path + b'/'):
        os.makedirs(path, exist_ok=True)
        return
    if not path.startswith(base + b'/'):
        raise Problem('refused', path, 'lies outside the folder of its server')
    is_new = False
    try:
        os.close(open_folder(path))
    except FileNotFoundError:
        make_folder(path.rpartition(b'/')[0])
        with entry(path) as (folder, name):
            with contextlib.suppress(FileExistsError):
                os.mkdir(name, 0o755 if mode is None else mode, dir_fd=folder)
                is_new = True
                with closing(os.open(name, os.O_RDONLY | os.O_DIRECTORY | NO_LINK, dir_fd=folder)) as fd:
                    give(fd, owner_in(folder))
    if mode is None and owner is None and not is_new:
        return
    with closing(open_folder(path)) as fd:
        if owner:
            give(fd, owner)
        if mode is not None or is_new:
            os.fchmod(fd, 0o755 if mode is None else mode)


def do_folder(request, _stream):
    make_folder(raw(request['path']), request.get('mode'), wanted_owner(request))


def do_link(request, _stream):
    with entry(raw(request['path'])) as (folder, name):
        os.symlink(raw(request['target']), name, dir_fd=folder)
        give_link(folder, name, wanted_owner(request) or owner_in(folder))


def do_second(request, _stream):
    with entry(raw(request['existing'])) as (there, old), entry(raw(request['path'])) as (here, new):
        os.link(old, new, src_dir_fd=there, dst_dir_fd=here, follow_symlinks=False)


def do_seconds(request, stream):
    """Second names of many, whose paths come as data: those of one folder beside each other where it should be quick."""
    to, source = raw(request['to']), raw(request['from'])
    folders = {}
    for path in stream.whole().split(b'\0'):
        above, _, name = path.rpartition(b'/')
        folders.setdefault(b'/' + above if above else b'', []).append(name)
    for below, names in folders.items():
        with closing(open_folder(to + below, os.O_PATH)) as here:
            try:
                there = open_folder(source + below, os.O_PATH)
            except (FileNotFoundError, NotADirectoryError):
                continue
            with closing(there):
                for name in names:
                    with contextlib.suppress(FileNotFoundError, NotADirectoryError):
                        os.link(name, name, src_dir_fd=there, dst_dir_fd=here, follow_symlinks=False)


FICLONE = 0x40049409


def do_copy(request, _stream):
    with closing(open_file(raw(request['existing']))) as source, entry(raw(request['path'])) as (folder, name):
        st = os.fstat(source)
        with closing(os.open(name, NEW_FILE, 0o600, dir_fd=folder)) as made:
            try:
                # Where the file system can, the two share their blocks until one is written to.
                fcntl.ioctl(made, FICLONE, source)
            except OSError:
                while os.sendfile(made, source, None, 1 << 30):
                    pass
            give(made, (st.st_uid, st.st_gid))
            os.fchmod(made, st.st_mode & 0o777)
            os.utime(own(made), ns=(st.st_atime_ns, st.st_mtime_ns))


def still_pieces(path, words, found):
    """A file's pieces as it is at one moment, and which words it holds; a word may lie across two of them."""
    longest = max([len(word) for word in words] or [1])
    with closing(open_file(path)) as fd:
        before, tail = os.fstat(fd), b''
        while True:
            piece = os.read(fd, PIECE)
            if not piece:
                break
            seen = tail + piece
            found.update(i for i, word in enumerate(words) if i not in found and word in seen)
            tail = seen[-(longest - 1):] if longest > 1 else b''
            yield piece
        must_be_still(fd, before, path)


ATTEMPTS = 4


def copy_one(order, words):
    for tried in range(ATTEMPTS):
        found = set()
        try:
            pieces = still_pieces(raw(order['from']), words, found)
            first = next(pieces, b'')
        except (FileNotFoundError, NotADirectoryError):
            return None
        except Problem as problem:
            if problem.answer['problem'] != 'changed' or tried == ATTEMPTS - 1:
                raise
            continue
        try:
            made = do_write(dict(order, path=order['to']), itertools.chain([first], pieces))
            return {'identity': made, 'holds': sorted(found)}
        except Problem as problem:
            if problem.answer['problem'] != 'changed' or tried == ATTEMPTS - 1:
                raise


def do_many(request, _stream):
    words = [raw(word) for word in request['lookFor']]
    return [copy_one(order, words) for order in request['orders']]


def do_replace(request, _stream):
    with entry(raw(request['via'])) as (aside, temporary):
        with contextlib.suppress(FileNotFoundError):
            os.unlink(temporary, dir_fd=aside)
        os.symlink(raw(request['target']), temporary, dir_fd=aside)
        with entry(raw(request['path'])) as (folder, name):
            give_link(aside, temporary, wanted_owner(request) or owner_of(folder, name))
            os.rename(temporary, name, src_dir_fd=aside, dst_dir_fd=folder)


def do_rename(request, _stream):
    with entry(raw(request['from'])) as (there, old), entry(raw(request['to'])) as (here, new):
        os.rename(old, new, src_dir_fd=there, dst_dir_fd=here)


def do_is_folder(request, _stream):
    try:
        os.close(open_folder(raw(request['path'])))
        return True
    except (FileNotFoundError, NotADirectoryError):
        return False


MOST_TRIES = 5


def remove_entry(folder, name):
    """Links are removed and never followed, whatever takes a folder's place meanwhile."""
    try:
        os.unlink(name, dir_fd=folder)
        return
    except FileNotFoundError:
        return
    except OSError:
        if not stat.S_ISDIR(look(folder, name).st_mode):
            raise
    for tried in range(MOST_TRIES):
        with closing(os.open(name, os.O_RDONLY | os.O_DIRECTORY | NO_LINK, dir_fd=folder)) as inner:
            for one in os.listdir(own(inner).encode()):
                remove_entry(inner, one)
        try:
            os.rmdir(name, dir_fd=folder)
            return
        except FileNotFoundError:
            return
        except OSError as error:
            # Somebody puts files into it all the while.
            if error.errno != errno.ENOTEMPTY or tried == MOST_TRIES - 1:
                raise


def do_remove(request, _stream):
    with contextlib.suppress(FileNotFoundError):
        with entry(raw(request['path'])) as (folder, name):
            remove_entry(folder, name)


def do_missing(request, _stream):
    return [one for one in request['programs'] if shutil.which(one) is None]


def do_free(request, _stream):
    st = os.statvfs(raw(request['path']))
    return st.f_bavail * st.f_frsize


def tool(arguments, given=b'', files=(), cwd='/'):
    """Runs a program of the server's own system, which says what it says in English."""
    try:
        return subprocess.run(
            arguments, input=given, stdout=subprocess.PIPE, stderr=subprocess.PIPE, pass_fds=files, cwd=cwd,
            env={'PATH': os.environ.get('PATH', os.defpath), 'LC_ALL': 'C'})
    except FileNotFoundError:
        raise Problem('missing', b'', arguments[0])


def do_flush(request, _stream):
    with closing(open_folder(raw(request['path']))) as fd:
        done = tool(['sync', '--file-system', own(fd)], files=(fd,))
        if done.returncode != 0:
            raise Problem('', raw(request['path']), 'sync: ' + done.stderr.decode('utf-8', 'replace').strip()[-500:])


MORE_THAN_MODE = 10


def do_acls(request, stream):
    """What `getfacl` says of what has more than its mode says; paths come as data where only some are asked for."""
    paths = stream.whole() if request['some'] else None
    options = ['--skip-base', '--numeric', '--physical', '--']
    with closing(open_folder(raw(request['path']))) as fd:
        here = own(fd)
        try:
            if paths is None:
                found = tool(['getfacl', '--recursive'] + options + ['.'], files=(fd,), cwd=here).stdout
            else:
                many = tool(['xargs', '--null', 'getfacl'] + options, paths, (fd,), here)
                if many.returncode == 127:
                    raise Problem('missing', b'', 'getfacl')
                found = many.stdout
        except Problem:
            listing = ['ls', '-ldU', '--']
            if paths is None:
                lines = tool(['find', '.', '-exec'] + listing + ['{}', '+'], files=(fd,), cwd=here).stdout
            else:
                lines = tool(['xargs', '--null'] + listing, paths, (fd,), here).stdout
            if any(line[MORE_THAN_MODE:MORE_THAN_MODE + 1] == b'+' for line in lines.split(b'\n')):
                raise
            found = b''
    for at in range(0, len(found), PIECE):
        stream.give(found[at:at + PIECE])


def write_acls(files):
    wanted = ''.join('# file: %s\n%s\n\n' % (own(fd), acl) for fd, acl in files)
    done = tool(['setfacl', '--restore=-'], wanted.encode(), tuple(fd for fd, _ in files))
    if done.returncode != 0:
        raise Problem('acls', b'', done.stderr.decode('utf-8', 'replace').strip())


def do_give_acls(request, _stream):
    with contextlib.ExitStack() as opened:
        files = []
        for path, acl in request['acls']:
            with contextlib.suppress(FileNotFoundError, NotADirectoryError):
                fd = open_below(raw(path), os.O_PATH)
                opened.callback(os.close, fd)
                files.append((fd, acl))
        if files:
            write_acls(files)


def do_hash(request, stream):
    """The SHA-256 of each file whose path comes as data; nothing for one that is gone or is written to meanwhile."""
    answers = []
    for path in stream.whole().split(b'\0'):
        try:
            with closing(open_file(path)) as fd:
                before, digest = os.fstat(fd), hashlib.sha256()
                while True:
                    piece = os.read(fd, PIECE)
                    if not piece:
                        break
                    digest.update(piece)
                must_be_still(fd, before, path)
                answers.append('%s %s' % (digest.hexdigest(), identity(before)))
        except (FileNotFoundError, NotADirectoryError, Problem):
            answers.append('')
    return answers


class End:
    """The end of what is said."""

    def __init__(self, pipe):
        self.kept = b''
        self.thread = threading.Thread(target=self.read, args=(pipe,), daemon=True)
        self.thread.start()

    def read(self, pipe):
        while True:
            piece = os.read(pipe.fileno(), KEPT)
            if not piece:
                return
            self.kept = (self.kept + piece)[-KEPT:]


def kill_group(child):
    with contextlib.suppress(OSError):
        os.killpg(child, signal.SIGKILL)


# A program that is given a pipe expects it as its fourth open file, and signals as they are without a Python before it.
AS_THIRD = (
    'import os,signal as s,sys;s.signal(s.SIGPIPE,s.SIG_DFL);s.signal(s.SIGXFSZ,s.SIG_DFL);'
    'os.dup2(int(sys.argv[1]),3);os.closerange(4,1024);os.execvp(sys.argv[2],sys.argv[2:])')


def do_run(request, stream):
    """Runs a program in a group of processes of its own, which ends with the connection, and in time."""
    said_apart, says = os.pipe()
    with closing(says):
        child = subprocess.Popen(
            [sys.executable, '-ISc', AS_THIRD, str(says)] + [raw(one) for one in request['command']],
            stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
            cwd='/', env=request['env'], start_new_session=True, pass_fds=(says,))
    children.add(child.pid)
    output, errors = End(child.stdout), End(child.stderr)
    deadline = time.monotonic() + request['timeout']
    is_late = False
    with closing(said_apart):
        while child.poll() is None:
            if time.monotonic() > deadline or stream.is_gone:
                is_late = True
                kill_group(child.pid)
            time.sleep(0.02)
        kill_group(child.pid)
        children.discard(child.pid)
        for one in (output, errors):
            one.thread.join(2)
        os.set_blocking(said_apart, False)
        try:
            is_apart = os.read(said_apart, 16) != b''
        except BlockingIOError:
            is_apart = False
    return {'code': child.returncode if child.returncode >= 0 else 1, 'late': is_late, 'apart': is_apart,
            'output': text(output.kept), 'errors': text(errors.kept)}


ACTS = {
    'list': do_list, 'read': do_read, 'write': do_write, 'node': do_node, 'folder': do_folder, 'link': do_link,
    'second': do_second, 'seconds': do_seconds, 'copy': do_copy, 'many': do_many, 'replace': do_replace, 'rename': do_rename,
    'isFolder': do_is_folder, 'remove': do_remove, 'free': do_free, 'missing': do_missing, 'flush': do_flush, 'acls': do_acls,
    'giveAcls': do_give_acls, 'hash': do_hash, 'run': do_run,
}
LONG = {'list', 'seconds', 'copy', 'many', 'remove', 'flush', 'acls', 'giveAcls', 'hash', 'run'}


def answer(number, request, stream):
    try:
        done = ACTS[request['act']](request, stream)
        send(b'A', number, json.dumps(done).encode())
    except GivenUp:
        send(b'F', number, b'{"problem": "given up"}')
    except Problem as problem:
        send(b'F', number, json.dumps(problem.answer).encode())
    except OSError as error:
        said = {'problem': errno.errorcode.get(error.errno, ''), 'path': request.get('path', ''), 'words': error.strerror or ''}
        send(b'F', number, json.dumps(said).encode())
    except Exception as error:  # What nobody thought of is told, and does not end the others.
        said = {'problem': '', 'path': request.get('path', ''), 'words': '%s: %s' % (type(error).__name__, error)}
        send(b'F', number, json.dumps(said).encode())
    finally:
        streams.pop(number, None)


def in_turn(waiting):
    while True:
        answer(*waiting.get())


def watch():
    while True:
        time.sleep(1)
        if time.monotonic() - last_heard > SILENCE:
            end()


def is_long(request):
    act = request['act']
    return act in LONG or request.get('long', False) or (act == 'read' and not is_small(request))


def take(kind, number, payload, waiting):
    if kind == b'Q':
        request, stream = json.loads(payload.decode()), Stream(number)
        streams[number] = stream
        if is_long(request):
            threading.Thread(target=answer, args=(number, request, stream), daemon=True).start()
        else:
            waiting.put((number, request, stream))
        return
    stream = streams.get(number)
    # One that has been answered already.
    if stream is None:
        return
    if kind == b'D':
        stream.pieces.put(payload)
    elif kind == b'E':
        stream.pieces.put(None)
    elif kind == b'C':
        stream.room.release()
    elif kind == b'X':
        stream.give_up()


def begin():
    global base, last_heard
    # Modes are given in the end as they are wished for; until then, and above, nobody else writes.
    os.umask(0o022)
    size, _, _ = HEAD.unpack(incoming.read(HEAD.size))
    hello = json.loads(incoming.read(size).decode())
    base = raw(hello['base']).rstrip(b'/')
    # Whatever a login's own files have said stands before this.
    os.write(1, hello['token'].encode())
    said = {'uid': os.geteuid(), 'now': time.time(), 'python': platform.python_version(), 'machine': platform.node()}
    send(b'A', 0, json.dumps(said).encode())
    waiting = queue.Queue()
    for target, arguments in ((in_turn, (waiting,)), (watch, ())):
        threading.Thread(target=target, args=arguments, daemon=True).start()
    while True:
        head = incoming.read(HEAD.size)
        if len(head) < HEAD.size:
            end()
        size, kind, number = HEAD.unpack(head)
        payload = incoming.read(size) if size else b''
        last_heard = time.monotonic()
        if kind == b'.':
            send(b'.', 0)
        else:
            take(kind, number, payload, waiting)


try:
    begin()
except BaseException:
    end()
    raise
