import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import type { Server } from '@tessarion/contract';
import { type FormEvent, type JSX, useState } from 'react';
import { Button } from '../parts/button.js';
import { DatabaseFields, NO_DATABASE } from '../parts/database-fields.js';
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
        <Shown server={current} />
      ) : at === 'new' && mayManage ? (
        <NewServer done={open} />
      ) : (
        <p className="text-ink2">Choose a server to see what lives on it.</p>
      )}
    </ListRoom>
  );
}

function Shown({ server }: { readonly server: Server }): JSX.Element {
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

function NewServer({ done }: { readonly done: (name: string) => void }): JSX.Element {
  const cache = useQueryClient();
  const [name, setName] = useState('');
  const [folder, setFolder] = useState('');
  const [baseDomain, setBaseDomain] = useState('');
  const [webHost, setWebHost] = useState({ host: '127.0.0.1', port: 80 });
  const [database, setDatabase] = useState(NO_DATABASE);
  const add = useMutation({
    mutationFn: () => {
      const { database: _none, ...login } = database;
      return client.call('serverCreate', { body: { name, folder, baseDomain, webHost, database: login } });
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
        {add.isPending ? 'Looking whether it is reached' : 'Add this server'}
      </Button>
    </form>
  );
}
