import './styles/main.css';
import { QueryClientProvider } from '@tanstack/react-query';
import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { createBrowserRouter, RouterProvider } from 'react-router';
import { applyLooks } from './looks.js';
import { Frame } from './parts/frame.js';
import { Loading } from './parts/states.js';
import { FleetRoom } from './rooms/fleet/fleet-room.js';
import { BrokenRoom, NowhereRoom } from './rooms/nowhere.js';
import { queries } from './session.js';

applyLooks();

/** Rooms that are not entered first are fetched when somebody goes there. */
const router = createBrowserRouter([
  { path: '/sign-in', lazy: async () => ({ Component: (await import('./rooms/sign-in.js')).SignInRoom }) },
  { path: '/first', lazy: async () => ({ Component: (await import('./rooms/sign-in.js')).FirstRoom }) },
  { path: '/invitation', lazy: async () => ({ Component: (await import('./rooms/sign-in.js')).InvitationRoom }) },
  { path: '/look', lazy: async () => ({ Component: (await import('./rooms/look.js')).LookRoom }) },
  {
    path: '/stop-mail/:person/:kind',
    lazy: async () => ({ Component: (await import('./rooms/stop-mail.js')).StopMailRoom }),
  },
  {
    path: '/',
    element: <Frame />,
    HydrateFallback: () => <Loading what="Opening the room" rows={3} />,
    ErrorBoundary: BrokenRoom,
    // A room that breaks leaves the bar where it is.
    children: [
      {
        ErrorBoundary: BrokenRoom,
        children: [
          { index: true, element: <FleetRoom /> },
          {
            path: 'sites/:site',
            lazy: async () => ({ Component: (await import('./rooms/site/site-room.js')).SiteRoom }),
          },
          {
            path: 'sites/:site/new',
            lazy: async () => ({ Component: (await import('./rooms/new-environment.js')).NewEnvironmentRoom }),
          },
          {
            path: 'sites/:site/forecast',
            lazy: async () => ({ Component: (await import('./rooms/forecast/forecast-room.js')).ForecastRoom }),
          },
          {
            path: 'sites/:site/timeline',
            lazy: async () => ({ Component: (await import('./rooms/site/timeline.js')).TimelineRoom }),
          },
          {
            path: 'sites/:site/compare',
            lazy: async () => ({ Component: (await import('./rooms/forecast/compare-room.js')).CompareRoom }),
          },
          {
            path: 'transfers',
            lazy: async () => ({ Component: (await import('./rooms/transfers.js')).TransfersRoom }),
          },
          {
            path: 'transfers/:id',
            lazy: async () => ({ Component: (await import('./rooms/transfer.js')).TransferRoom }),
          },
          { path: 'requests', lazy: async () => ({ Component: (await import('./rooms/requests.js')).RequestsRoom }) },
          {
            path: 'requests/:id',
            lazy: async () => ({ Component: (await import('./rooms/request/request-room.js')).RequestRoom }),
          },
          {
            path: 'windows',
            lazy: async () => ({ Component: (await import('./rooms/windows/windows-room.js')).WindowsRoom }),
          },
          {
            path: 'people',
            lazy: async () => ({ Component: (await import('./rooms/people/people-room.js')).PeopleRoom }),
          },
          { path: 'figures', lazy: async () => ({ Component: (await import('./rooms/figures.js')).FiguresRoom }) },
          { path: 'notices', lazy: async () => ({ Component: (await import('./rooms/notices.js')).NoticesRoom }) },
          { path: 'settings', lazy: async () => ({ Component: (await import('./rooms/settings.js')).SettingsRoom }) },
          { path: 'bring-in', lazy: async () => ({ Component: (await import('./rooms/bring-in.js')).BringInRoom }) },
          { path: 'servers', lazy: async () => ({ Component: (await import('./rooms/servers.js')).ServersRoom }) },
          { path: 'webhooks', lazy: async () => ({ Component: (await import('./rooms/webhooks.js')).WebhooksRoom }) },
          { path: 'journal', lazy: async () => ({ Component: (await import('./rooms/journal.js')).JournalRoom }) },
          {
            path: 'snapshots',
            lazy: async () => ({ Component: (await import('./rooms/snapshots.js')).SnapshotsRoom }),
          },
          ...['profiles', 'profiles/:name'].map((path) => ({
            path,
            lazy: async () => ({ Component: (await import('./rooms/profiles.js')).ProfilesRoom }),
          })),
          { path: '*', element: <NowhereRoom /> },
        ],
      },
    ],
  },
]);

const root = document.getElementById('root');
if (!root) throw new Error('The page has no root.');
createRoot(root).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <RouterProvider router={router} />
    </QueryClientProvider>
  </StrictMode>,
);
