import './styles/main.css';
import { QueryClientProvider } from '@tanstack/react-query';
import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { createBrowserRouter, RouterProvider } from 'react-router';
import { Frame } from './parts/frame.js';
import { FleetRoom } from './rooms/fleet.js';
import { ForecastRoom } from './rooms/forecast.js';
import { NewEnvironmentRoom } from './rooms/new-environment.js';
import { NowhereRoom } from './rooms/nowhere.js';
import { ProfilesRoom } from './rooms/profiles.js';
import { FirstRoom, SignInRoom } from './rooms/sign-in.js';
import { SiteRoom } from './rooms/site.js';
import { SnapshotsRoom } from './rooms/snapshots.js';
import { TransferRoom } from './rooms/transfer.js';
import { TransfersRoom } from './rooms/transfers.js';
import { queries } from './session.js';

const router = createBrowserRouter([
  { path: '/sign-in', element: <SignInRoom /> },
  { path: '/first', element: <FirstRoom /> },
  {
    path: '/',
    element: <Frame />,
    children: [
      { index: true, element: <FleetRoom /> },
      { path: 'sites/:site', element: <SiteRoom /> },
      { path: 'sites/:site/new', element: <NewEnvironmentRoom /> },
      { path: 'sites/:site/forecast', element: <ForecastRoom /> },
      { path: 'transfers', element: <TransfersRoom /> },
      { path: 'transfers/:id', element: <TransferRoom /> },
      { path: 'snapshots', element: <SnapshotsRoom /> },
      { path: 'profiles', element: <ProfilesRoom /> },
      { path: 'profiles/:name', element: <ProfilesRoom /> },
      { path: '*', element: <NowhereRoom /> },
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
