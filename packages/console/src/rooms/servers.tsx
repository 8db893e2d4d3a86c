import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import type { Server, SshMachine } from '@tessarion/contract';
import { type FormEvent, type JSX, useState } from 'react';
import { Button } from '../parts/button.js';
import { CopyText } from '../parts/copy-text.js';
import { DatabaseFields, NO_DATABASE } from '../parts/database-fields.js';
import { Icon } from '../parts/icon.js';
import { type Column, ListRoom, Opens } from '../parts/list-room.js';
import { Empty, Failure } from '../parts/states.js';
import { FIGURE, WIDE } from '../parts/table.js';
import { HostFields, NameField, TextField } from '../parts/text-field.js';
import { useOpen } from '../parts/use-view.js';
import { size } from '../parts/words.js';
import { client, useFleet, useMe } from '../session.js';

/** Machines where environments live. */
export function ServersRoom(): JSX.Element {
  const [at, open] = useOpen();
  const me = useMe();
  const servers = useQuery({ queryKey: ['servers'], queryFn: () => client.call('serverList') });
  const current = servers.data?.find((one) => one.name === at);
  const mayManage = me.data?.permissions.includes('server.manage') === true;
  const columns: readonly Column<Server>[] = [
    {
      head: 'Server',
      cell: ({ name }) => (
        <Opens open={() => open(name)}>
          <span className="mono">{name}</span>
        </Opens>
      ),
    },
    {
      head: 'Folder',
      look: () => `mono text-ink2 ${WIDE} max-desk:order-none!`,
      whole: ({ folder }) => folder,
      cell: ({ folder }) => folder,
    },
    { head: 'Database', look: () => 'mono q', cell: ({ database }) => database },
    {
      head: 'Reached',
      look: ({ reached }) => (reached ? 'q' : 'bad'),
      cell: ({ reached }) => (reached ? 'yes' : 'not reached'),
    },
    { head: 'Free', look: FIGURE, cell: ({ freeBytes }) => (freeBytes === null ? '–' : size(freeBytes)) },
  ];
  return (
    <ListRoom
      title="Servers"
      act={mayManage ? { words: 'Add a server' } : undefined}
      read={{ ...servers, what: 'Reading the servers', rows: 4 }}
      items={servers.data ?? []}
      idOf={({ name }) => name}
      at={at}
      choose={open}
      columns={columns}
      empty={
        <Empty title="No servers yet">
          A server is a machine where sites and their copies live: a folder, a web server and a database server.
        </Empty>
      }
    >
      {current ? (
        <Shown server={current} mayManage={mayManage} />
      ) : at === 'new' && mayManage ? (
        <NewServer done={open} />
      ) : (
        <p className="text-ink2">Choose a server to see what lives on it.</p>
      )}
    </ListRoom>
  );
}

function Shown({ server, mayManage }: { readonly server: Server; readonly mayManage: boolean }): JSX.Element {
  const sites = useFleet();
  const { databases, folders, notKnown } = server.leftBehind;
  const left = [...databases, ...folders];
  const open = server.openToAll ?? [];
  const here = (sites.data ?? []).flatMap((site) => site.environments.filter((one) => one.server === server.name));
  return (
    <div className="flex flex-col gap-8">
      <h2 className="mb-4 mono text-[14px]/24">{server.name}</h2>
      <p className="text-ink2">
        Copies are reached below <span className="mono">{server.baseDomain}</span>.
      </p>
      {server.ssh && <Reached ssh={server.ssh} />}
      {mayManage && <Tried key={server.name} name={server.name} />}
      <p>
        {here.length === 0
          ? 'Nothing lives here yet.'
          : `${here.filter((one) => one.kind === 'live').length} live, ${here.filter((one) => one.kind !== 'live').length} copies`}
      </p>
      {open.length > 0 && (
        <p className="text-ink2">
          Every site’s login may open {open.length === 1 ? 'a database' : 'databases'} here that{' '}
          {open.length === 1 ? 'is' : 'are'} not its own: <span className="mono">{open.join(', ')}</span>. As the
          administrator of the database server:{' '}
          <span className="mono">REVOKE CONNECT ON DATABASE {open[0]} FROM PUBLIC</span>
        </p>
      )}
      {notKnown !== null && (
        <p className="flex items-baseline gap-8 border-b border-line px-16 py-6">
          What is left behind here is not known: {notKnown}
        </p>
      )}
      {left.length > 0 && (
        <p className="flex items-baseline gap-8 border-b border-line px-16 py-6 text-ink2">
          Made here, and belonging to nothing any more: <span className="mono">{left.join(', ')}</span>. To remove{' '}
          {left.length === 1 ? 'it' : 'them'}: <span className="mono">tessarion server clear {server.name}</span>
        </p>
      )}
    </div>
  );
}

const machineWords = ({ user, host, port }: SshMachine): string => `${user}@${host}${port === 22 ? '' : `:${port}`}`;

/** How a server is logged in to, with the lines that let its key in. */
function Reached({ ssh }: { readonly ssh: NonNullable<Server['ssh']> }): JSX.Element {
  const ends = [
    { of: ssh, line: ssh.keyLines.server },
    ...(ssh.jump && ssh.keyLines.jump !== null ? [{ of: ssh.jump, line: ssh.keyLines.jump }] : []),
  ];
  return (
    <section className="flex flex-col gap-8" aria-label="How it is reached">
      {ends.map(({ of, line }) => (
        <div className="grid gap-4" key={machineWords(of)}>
          <p className="flex flex-wrap items-baseline gap-x-8">
            <span className="mono">{machineWords(of)}</span>
            <span className="text-ink2">
              {of === ssh ? 'by SSH' : 'the machine on the way'}
              {of.hostKey === null ? ', whose host key nobody has confirmed' : ''}
            </span>
          </p>
          {of.hostKey !== null && <p className="mono text-small text-ink3 wrap-anywhere">{of.hostKey}</p>}
          <p className="flex items-baseline justify-between gap-8 text-ink2">
            Line for ~/.ssh/authorized_keys there
            <CopyText text={line} label={`the line for ${machineWords(of)}`} />
          </p>
          <p className="mono bg-bed px-8 py-4 text-small wrap-anywhere">{line}</p>
        </div>
      ))}
    </section>
  );
}

/** Tries a server step by step; a host key that is shown for the first time is confirmed here. */
function Tried({ name }: { readonly name: string }): JSX.Element {
  const cache = useQueryClient();
  const trial = useMutation({
    mutationFn: (hostKeys: string[]) => client.call('serverTry', { params: { name }, body: { hostKeys } }),
    onSuccess: () => void cache.invalidateQueries({ queryKey: ['servers'] }),
  });
  const found = trial.data;
  return (
    <section className="flex flex-col gap-8" aria-label="What was tried">
      {found && (
        <ul className="grid gap-4 bg-bed p-12" role="status">
          {found.steps.map(({ name: step, state, message, remedy }) => (
            <li className="flex items-start gap-8" key={step}>
              <Icon name={state === 'passed' ? 'check' : 'warn'} />
              <span className="min-w-0 wrap-anywhere">
                {message} {remedy !== undefined && <span className="text-ink3">{remedy}</span>}
              </span>
            </li>
          ))}
          {found.steps.every(({ state }) => state !== 'failed') && <li className="text-ink2">It can be used.</li>}
        </ul>
      )}
      {trial.isError && <Failure error={trial.error} />}
      {found?.hostKey != null && (
        <Button main wide disabled={trial.isPending} onClick={() => trial.mutate([found.hostKey as string])}>
          It is this key: any other one is refused from now on
        </Button>
      )}
      <Button wide disabled={trial.isPending} onClick={() => trial.mutate([])}>
        {trial.isPending ? 'Trying it' : found ? 'Try it again' : 'Try it step by step'}
      </Button>
    </section>
  );
}

const NO_MACHINE: SshMachine = { host: '', port: 22, user: '' };

/** A login of another machine. */
function MachineFields({
  legend,
  value,
  change,
}: {
  readonly legend: string;
  readonly value: SshMachine;
  readonly change: (value: SshMachine) => void;
}): JSX.Element {
  return (
    <fieldset className="my-4 grid min-w-0 grid-cols-[minmax(0,1fr)_128px] gap-8">
      <legend className="pb-4 font-semibold">{legend}</legend>
      <HostFields value={value} change={change} />
      <div className="col-span-full">
        <TextField
          label="User"
          pattern="[A-Za-z0-9_][A-Za-z0-9_.@\-]*"
          example="sites"
          value={value.user}
          change={(user) => change({ ...value, user })}
        />
      </div>
    </fieldset>
  );
}

function NewServer({ done }: { readonly done: (name: string) => void }): JSX.Element {
  const cache = useQueryClient();
  const [name, setName] = useState('');
  const [folder, setFolder] = useState('');
  const [baseDomain, setBaseDomain] = useState('');
  const [webHost, setWebHost] = useState({ host: '127.0.0.1', port: 80 });
  const [database, setDatabase] = useState(NO_DATABASE);
  const [isOther, setOther] = useState(false);
  const [hasJump, setHasJump] = useState(false);
  const [machine, setMachine] = useState(NO_MACHINE);
  const [jump, setJump] = useState(NO_MACHINE);
  const add = useMutation({
    mutationFn: () => {
      const { database: _none, ...login } = database;
      const ssh = isOther ? { ssh: { ...machine, ...(hasJump ? { jump } : {}) } } : {};
      return client.call('serverCreate', { body: { name, folder, baseDomain, webHost, database: login, ...ssh } });
    },
    onSuccess: (added) => {
      void cache.invalidateQueries({ queryKey: ['servers'] });
      done(added.name);
    },
  });
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    if (!add.isPending) add.mutate();
  };
  return (
    <form className="flex flex-col gap-8" onSubmit={submit}>
      <h2 className="mb-4 text-[14px]/24">Add a server</h2>
      <NameField example="harbour-2" value={name} change={setName} />
      <label className="flex items-center gap-8">
        <input type="checkbox" checked={isOther} onChange={(event) => setOther(event.target.checked)} />
        It is another machine, reached by SSH
      </label>
      {isOther && (
        <>
          <MachineFields legend="How it is logged in to" value={machine} change={setMachine} />
          <label className="flex items-center gap-8">
            <input type="checkbox" checked={hasJump} onChange={(event) => setHasJump(event.target.checked)} />
            By way of one more machine
          </label>
          {hasJump && <MachineFields legend="The machine on the way" value={jump} change={setJump} />}
          <p className="text-ink2">
            A key is made for it; what is to be done with its public half is shown next. Host and port of the database
            server are as they are called on that machine.
          </p>
        </>
      )}
      <TextField
        label="Folder below which files lie"
        pattern="/.*"
        example="/srv/sites"
        value={folder}
        change={setFolder}
      />
      <TextField
        label="Domain below which copies are reached"
        pattern="[a-z0-9.\-]+"
        example="copies.example"
        value={baseDomain}
        change={setBaseDomain}
      />
      <fieldset className="my-4 grid min-w-0 grid-cols-[minmax(0,1fr)_128px] gap-8">
        <legend className="pb-4 font-semibold">Web server</legend>
        <HostFields value={webHost} change={setWebHost} />
      </fieldset>
      <DatabaseFields
        legend="Database server"
        note="A login that may make databases and roles; its password is kept encrypted."
        value={database}
        change={setDatabase}
        isServer
      />
      {add.isError && <Failure error={add.error} />}
      <Button type="submit" main wide disabled={add.isPending}>
        {add.isPending ? 'Adding it' : 'Add this server'}
      </Button>
    </form>
  );
}
