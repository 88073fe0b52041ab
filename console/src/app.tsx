import { Button, Layout, Result } from 'antd';
import { Link, Route, Routes, useNavigate } from 'react-router';
import { NowPage } from './pages/now';
import { PathPage } from './pages/path';
import { ink } from './theme';

function NowherePage() {
  const navigate = useNavigate();
  return (
    <Result
      status="info"
      title="There is no page here"
      extra={<Button onClick={() => void navigate('/')}>Back to what is wrong now</Button>}
    />
  );
}

export function App() {
  return (
    <Layout style={{ minHeight: '100vh', background: ink.ground }}>
      <Layout.Header
        style={{
          background: ink.ground,
          borderBottom: `1px solid ${ink.faint}`,
          height: 52,
          lineHeight: '52px',
          padding: '0 24px',
        }}
      >
        <Link to="/" className="mark">
          <img src="/mark.svg" alt="" />
          Itinera
        </Link>
      </Layout.Header>
      <Layout.Content className="page">
        <Routes>
          <Route path="/" element={<NowPage />} />
          <Route path="/paths/:id" element={<PathPage />} />
          <Route path="*" element={<NowherePage />} />
        </Routes>
      </Layout.Content>
    </Layout>
  );
}
